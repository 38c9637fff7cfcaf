package postoffice

import (
	"bytes"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"

	"github.com/emersion/go-smtp"
)

func TestOffice(t *testing.T) {
	dir := t.TempDir()
	raw := "From: =?utf-8?q?K=C3=A5re?= <a@b.example>\r\nSubject: <script>alert(1)</script>\r\nMessage-ID: <1@b.example>\r\n\r\nGr\xc3\xbc\xc3\x9fe\r\n.\r\n<b>\xff</b>\r\n"
	open := func() (*Office, string, string) {
		o, err := New(dir)
		if err != nil {
			t.Fatal(err)
		}
		in, err1 := net.Listen("tcp", "127.0.0.1:0")
		web, err2 := net.Listen("tcp", "127.0.0.1:0")
		if err1 != nil || err2 != nil {
			t.Fatal(err1, err2)
		}
		go o.Serve(in, web)
		t.Cleanup(o.Stop)
		return o, in.Addr().String(), "http://" + web.Addr().String()
	}
	o, addr, _ := open()
	c, err := smtp.Dial(addr)
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if err := c.SendMail("s@b.example", []string{"One@a.example", "../two@a.example"}, strings.NewReader(raw)); err != nil {
			t.Fatal(err)
		}
	}
	c.Close()
	if l := o.Letters("one@a.example"); len(l) != 2 || l[1].N != 2 || l[0].From != "Kåre <a@b.example>" || l[0].MessageID != "<1@b.example>" {
		t.Errorf("letters: %+v", l)
	}
	o.Stop()

	_, _, web := open() // it keeps what it had
	get := func(path string) (string, *http.Response) {
		res, err := http.Get(web + path)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		b, _ := io.ReadAll(res.Body)
		return string(b), res
	}
	var boxes []Box
	text, _ := get("/api/boxes")
	if err := json.Unmarshal([]byte(text), &boxes); err != nil || len(boxes) != 2 || boxes[1] != (Box{"one@a.example", 2}) {
		t.Errorf("boxes: %s", text)
	}
	if text, _ := get("/api/boxes/one@a.example/2"); !bytes.Equal([]byte(text), []byte(raw)) {
		t.Errorf("it came as %q", text)
	}
	for _, path := range []string{"/boxes/one@a.example", "/boxes/one@a.example/1", "/boxes/..%2Ftwo@a.example"} {
		text, res := get(path)
		if res.StatusCode != 200 || strings.Contains(text, "<script>") || res.Header.Get("Content-Security-Policy") == "" {
			t.Errorf("%s: %d\n%s", path, res.StatusCode, text)
		}
	}
	for path, want := range map[string]int{"/": 200, "/boxes/nobody@a.example": 200, "/api/boxes/one@a.example/9": 404, "/boxes/one@a.example/x": 404} {
		if _, res := get(path); res.StatusCode != want {
			t.Errorf("%s: %d", path, res.StatusCode)
		}
	}
}
