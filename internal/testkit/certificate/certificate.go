// Package certificate makes certificates for this machine, with which tests and stand-ins speak TLS.
package certificate

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"
)

// Made is a certificate that signs itself, with its key.
type Made struct {
	tls.Certificate
	PEM, KeyPEM []byte
}

// New makes one for 127.0.0.1 and a name, from an hour ago until lasts from now, which can be negative.
func New(name string, lasts time.Duration) (Made, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return Made{}, err
	}
	now := time.Now()
	c := &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(lasts), IsCA: true, BasicConstraintsValid: true}
	der, err1 := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
	private, err2 := x509.MarshalPKCS8PrivateKey(key)
	return Made{tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key},
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})}, errors.Join(err1, err2)
}

// Write writes it to cert.pem and key.pem in a folder.
func (m Made) Write(dir string) error {
	return errors.Join(os.WriteFile(filepath.Join(dir, "cert.pem"), m.PEM, 0o600), os.WriteFile(filepath.Join(dir, "key.pem"), m.KeyPEM, 0o600))
}
