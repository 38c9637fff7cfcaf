package workspace

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"sync"
)

// mailKeySetting holds the key by which the workspace knows what it wrote into mail.
const mailKeySetting = "mail_mark"

// mailKey is the key, once it was asked for.
type mailKey struct {
	mu  sync.Mutex
	key []byte
}

// MailKey returns what makes codes by which the workspace knows what it wrote into mail itself, and that nobody else can make. What
// differs in purpose has another name. The key is made when it is first asked for, and is the same for all instances.
func (k *Kernel) MailKey(ctx context.Context, purpose string) (func(parts ...[]byte) []byte, error) {
	k.mail.mu.Lock()
	defer k.mail.mu.Unlock()
	if k.mail.key == nil {
		key, err := k.readMailKey(ctx)
		if err != nil {
			return nil, err
		}
		k.mail.key = key
	}
	key := k.mail.key
	return func(parts ...[]byte) []byte {
		h := hmac.New(sha256.New, key)
		h.Write([]byte(purpose))
		for _, p := range parts {
			h.Write(p)
		}
		return h.Sum(nil)
	}, nil
}

func (k *Kernel) readMailKey(ctx context.Context) ([]byte, error) {
	var key []byte
	if _, err := k.View(ctx, Service).Read.Setting(mailKeySetting, &key); err != nil || key != nil {
		return key, err
	}
	err := k.Do(ctx, Service, func(c *Change) error {
		key = nil
		version, err := c.Tx.LockSetting(mailKeySetting, &key)
		if err != nil || key != nil {
			return err
		}
		key = make([]byte, 32)
		rand.Read(key)
		return c.Tx.SaveSetting(mailKeySetting, key, version+1)
	})
	return key, err
}
