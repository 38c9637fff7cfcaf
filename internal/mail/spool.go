package mail

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/emersion/go-smtp"
)

// inMemory is how many octets of a body stay in memory; what is longer goes to a file.
const inMemory = 16 << 10

// spool is a body while it comes in: in memory as long as it is small, then in a file
// without a name, which is gone when it is closed or the service dies.
type spool struct {
	dir      string
	small    bytes.Buffer
	file     *os.File
	size     int
	eightBit bool
}

// Write takes more of the body.
func (s *spool) Write(p []byte) (int, error) {
	s.eightBit = s.eightBit || has8Bit(p)
	s.size += len(p)
	if s.file == nil && s.size <= inMemory {
		return s.small.Write(p)
	}
	if s.file == nil {
		f, err := os.CreateTemp(s.dir, "incoming-")
		if err != nil {
			return 0, err
		}
		s.file = f
		if err := os.Remove(f.Name()); err != nil {
			return 0, err
		}
		if _, err := f.Write(s.small.Bytes()); err != nil {
			return 0, err
		}
		s.small = bytes.Buffer{}
	}
	return s.file.Write(p)
}

// ReadAt reads the body once it is whole.
func (s *spool) ReadAt(p []byte, at int64) (int, error) {
	if s.file != nil {
		return s.file.ReadAt(p, at)
	}
	return bytes.NewReader(s.small.Bytes()).ReadAt(p, at)
}

// Close forgets the body.
func (s *spool) Close() {
	if s.file != nil {
		_ = s.file.Close()
	}
}

// strict reads a message, and ends with a refusal where it is none that every relay would
// read in the same way: with a CR or an LF alone, with a NUL, too long, or with a line that
// is too long. What one relay takes for the end of a line, of the header or of the message,
// another does not, so such a message is never passed on (RFC 5321, 2.3.8).
type strict struct {
	r    io.Reader
	size int
	line int
	cr   bool // the octet before was a CR
}

// Read reads more of the message. Its errors but io.EOF are *smtp.SMTPErrors, or of the
// connection.
func (s *strict) Read(p []byte) (int, error) {
	n, err := s.r.Read(p)
	for _, c := range p[:n] {
		switch {
		case s.cr != (c == '\n'):
			what := "a CR"
			if c == '\n' {
				what = "an LF"
			}
			return 0, refusal(554, smtp.EnhancedCode{5, 6, 0}, "Line %d of the message has %s without its other half; lines of mail end in CR LF (RFC 5321, 2.3.8).", s.line+1, what)
		case c == 0:
			return 0, refusal(554, smtp.EnhancedCode{5, 6, 0}, "Line %d of the message has a NUL, which mail can't carry (RFC 5322, 4).", s.line+1)
		case c == '\n':
			s.line++
		}
		s.cr = c == '\r'
	}
	if s.size += n; s.size > MaxMessage {
		return 0, tooLong()
	}
	switch {
	case err == nil:
	case errors.Is(err, io.EOF):
		if s.cr {
			return 0, refusal(554, smtp.EnhancedCode{5, 6, 0}, "Line %d of the message has a CR without its other half; lines of mail end in CR LF (RFC 5321, 2.3.8).", s.line+1)
		}
	case errors.Is(err, smtp.ErrDataTooLarge):
		return 0, tooLong()
	case errors.Is(err, smtp.ErrTooLongLine):
		return 0, refusal(554, smtp.EnhancedCode{5, 6, 0}, "Line %d of the message has more than %d octets (RFC 5322, 2.1.1 allows 998).", s.line+1, maxLine)
	}
	return n, err
}

func tooLong() error {
	return refusal(552, smtp.EnhancedCode{5, 3, 4}, "The message has more than %d octets, which is the most.", MaxMessage)
}

// readHeader reads the header of a message, with the CR LF of its last field, and leaves r
// at the body.
func readHeader(r *bufio.Reader) ([]byte, error) {
	var header []byte
	for {
		line, err := r.ReadSlice('\n')
		begins := len(header) == 0 || header[len(header)-1] == '\n'
		if begins && err == nil && len(line) == 2 {
			return header, nil
		}
		header = append(header, line...)
		if len(header) > MaxHeader {
			return nil, refusal(552, smtp.EnhancedCode{5, 3, 4}, "The header has more than %d octets, which is the most.", MaxHeader)
		}
		switch {
		case err == nil, errors.Is(err, bufio.ErrBufferFull):
		case errors.Is(err, io.EOF):
			if len(header) > 0 && !bytes.HasSuffix(header, []byte("\r\n")) {
				header = append(header, "\r\n"...)
			}
			return header, nil
		default:
			var e *smtp.SMTPError
			if errors.As(err, &e) {
				return nil, e
			}
			return nil, fmt.Errorf("read the message: %w", err)
		}
	}
}
