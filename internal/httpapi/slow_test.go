package httpapi_test

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
)

// narrow is a listener whose connections take little before they wait for their reader.
type narrow struct{ net.Listener }

func (n narrow) Accept() (net.Conn, error) {
	c, err := n.Listener.Accept()
	if err == nil {
		err = c.(*net.TCPConn).SetWriteBuffer(4096)
	}
	return c, err
}

// Exports that nobody reads hold no connection to the database: others are answered.
func TestUnreadExportsKeepNobodyWaiting(t *testing.T) {
	list := api.PeopleList{}
	for i := range 3000 {
		list.Text += fmt.Sprintf("a.rather.long.address.of.hand.%04d@gannetport.example\n", i)
	}
	g := k.Make(t, "Widely Read", func(n *api.NewGroup) { n.Externals, n.Lists = "owners", []api.PeopleList{list} })
	if g.Counts.External != 3000 {
		t.Fatalf("%+v", g.Counts)
	}
	slow := httptest.NewUnstartedServer(routes)
	slow.Listener = narrow{slow.Listener}
	slow.Start()
	defer slow.Close()
	const readers = 40 // more than there are connections to the database
	for range readers {
		c, err := net.Dial("tcp", slow.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if err := errors.Join(c.(*net.TCPConn).SetReadBuffer(4096), c.SetReadDeadline(time.Now().Add(20*time.Second))); err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(c, "GET /api/v1/groups/%s/member-export HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\n\r\n", g.ID, token(t, kit.Administrator))
		begun := make([]byte, 15)
		if _, err := io.ReadFull(c, begun); err != nil || string(begun) != "HTTP/1.1 200 OK" {
			t.Fatalf("an export begins with %q, %v", begun, err)
		}
	}
	client := http.Client{Timeout: 20 * time.Second}
	for _, path := range []string{"/readyz", "/api/v1/groups?limit=5", "/api/v1/people?limit=5"} {
		r, err := http.NewRequest("GET", slow.URL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+token(t, kit.Administrator))
		res, err := client.Do(r)
		if err != nil {
			t.Fatalf("while exports are not read, %s is not answered: %v", path, err)
		}
		b, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if res.StatusCode != 200 {
			t.Errorf("%s: %d %s", path, res.StatusCode, strings.TrimSpace(string(b)))
		}
	}
}
