package mail

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// Certificate is a certificate in two files of PEM, which are read again when they change.
type Certificate struct {
	cert, key string
	log       *slog.Logger

	mu      sync.Mutex
	loaded  *tls.Certificate
	changed time.Time // the newer of both files
	looked  time.Time
}

// lookEvery is how often the files are looked at.
const lookEvery = time.Second

// LoadCertificate reads a certificate, with those between it and the root, and its key.
func LoadCertificate(cert, key string, log *slog.Logger) (*Certificate, error) {
	c := &Certificate{cert: cert, key: key, log: log}
	if err := c.load(); err != nil {
		return nil, fmt.Errorf("read the certificate (--tls-cert, --tls-key): %w", err)
	}
	return c, nil
}

// TLS returns what connections are secured with: TLS 1.2 or newer (RFC 8997).
func (c *Certificate) TLS() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return c.current(), nil }}
}

// current returns the certificate as it is in the files. Where they can't be read, such as
// when only one of them has changed yet, it is the one of before.
func (c *Certificate) current() *tls.Certificate {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) > lookEvery {
		if err := c.load(); err != nil {
			c.log.Error("the certificate can't be read again; the one of before is used", "error", err)
		}
	}
	return c.loaded
}

func (c *Certificate) load() error {
	c.looked = time.Now()
	var newest time.Time
	for _, name := range []string{c.cert, c.key} {
		i, err := os.Stat(name)
		if err != nil {
			return err
		}
		if i.ModTime().After(newest) {
			newest = i.ModTime()
		}
	}
	if c.loaded != nil && newest.Equal(c.changed) {
		return nil
	}
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return err
	}
	c.loaded, c.changed = &pair, newest
	return nil
}
