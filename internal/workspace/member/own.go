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
	ownCode = 14                    // octets
	ownSize = 16 + 16 + 4 + ownCode // octets of a secret that is signed
)

// SignOwn returns the secret of a link by which an external member decides about their own part in a group, as it stands in each
// message to them. It is not kept: code, by [OwnPurpose], knows it again.
func SignOwn(code func(...[]byte) []byte, group, person uuid.UUID, now time.Time) string {
	b := append(append(make([]byte, 0, ownSize), group[:]...), person[:]...)
	b = binary.BigEndian.AppendUint32(b, uint32(now.Unix()))
	return base64.RawURLEncoding.EncodeToString(append(b, code(b)[:ownCode]...))
}

// ReadOwn reads what SignOwn wrote, and when, for as long as such a link works. It stands for the membership of that moment: that this one
// goes on is for whoever calls it to see to.
func ReadOwn(code func(...[]byte) []byte, secret string, now time.Time) (group, person uuid.UUID, made time.Time, ok bool) {
	b, err := base64.RawURLEncoding.DecodeString(secret)
	if err != nil || len(b) != ownSize {
		return group, person, made, false
	}
	said := b[:ownSize-ownCode]
	if !hmac.Equal(code(said)[:ownCode], b[ownSize-ownCode:]) {
		return group, person, made, false
	}
	copy(group[:], b)
	copy(person[:], b[16:])
	made = time.Unix(int64(binary.BigEndian.Uint32(b[32:])), 0)
	return group, person, made, now.Before(made.AddDate(0, 0, ownLinkDays+1))
}
