package member

import (
	"crypto/hmac"
	"encoding/base64"
	"encoding/binary"
	"time"

	"github.com/google/uuid"
)

// OwnPurpose is for which a workspace's key makes the codes of links that stand in mail.
const OwnPurpose = "own part"

const (
	ownCode = 14                            // octets
	ownSize = 16 + 16 + 2 + ownCode         // octets of a secret that is signed
	ownDay  = time.Duration(24) * time.Hour // by which its age is counted
)

// SignOwn returns the secret of a link by which an external member decides about their own part in a group, as it stands in each
// message to them. It is not kept: code, by [OwnPurpose], knows it again.
func SignOwn(code func(...[]byte) []byte, group, person uuid.UUID, now time.Time) string {
	b := append(append(make([]byte, 0, ownSize), group[:]...), person[:]...)
	b = binary.BigEndian.AppendUint16(b, uint16(now.Unix()/int64(ownDay/time.Second)))
	return base64.RawURLEncoding.EncodeToString(append(b, code(b)[:ownCode]...))
}

// ReadOwn reads what SignOwn wrote, for as long as such a link works.
func ReadOwn(code func(...[]byte) []byte, secret string, now time.Time) (group, person uuid.UUID, ok bool) {
	b, err := base64.RawURLEncoding.DecodeString(secret)
	if err != nil || len(b) != ownSize {
		return group, person, false
	}
	said := b[:ownSize-ownCode]
	if !hmac.Equal(code(said)[:ownCode], b[ownSize-ownCode:]) {
		return group, person, false
	}
	copy(group[:], b)
	copy(person[:], b[16:])
	made := time.Unix(int64(binary.BigEndian.Uint16(b[32:]))*int64(ownDay/time.Second), 0)
	return group, person, now.Before(made.AddDate(0, 0, ownLinkDays+1))
}
