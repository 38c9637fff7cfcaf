package post

import (
	"bytes"
	"encoding/json"
	"io"
)

// encode is how edits are kept; nil for none.
func encode(edits []Edit) []byte {
	if len(edits) == 0 {
		return nil
	}
	out, err := json.Marshal(edits)
	if err != nil {
		panic(err) // numbers and octets
	}
	return out
}

// Edited reads a body with edits, which are in order and don't overlap.
func Edited(body io.Reader, edits []Edit) io.Reader {
	var parts []io.Reader
	at := int64(0)
	for _, e := range edits {
		parts = append(parts, io.LimitReader(body, e.At-at), bytes.NewReader(e.Put), &dropped{body, e.Drop})
		at = e.At + e.Drop
	}
	return io.MultiReader(append(parts, body)...)
}

// dropped reads some octets and gives none.
type dropped struct {
	r io.Reader
	n int64
}

func (d *dropped) Read([]byte) (int, error) {
	n, err := io.CopyN(io.Discard, d.r, d.n)
	if d.n -= n; err == nil || err == io.EOF && d.n == 0 {
		err = io.EOF
	} else if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return 0, err
}
