package roster

import (
	"fmt"
	"strings"
	"testing"
)

func TestReadSheet(t *testing.T) {
	known := []string{"address", "name", "description"}
	for in, want := range map[string]string{
		"address,name\na@x.example,Anna\n":                         "2 map[address:a@x.example name:Anna]",
		"\ufeffsep=;\r\nAddress;NAME\r\na@x.example;\"An;na\"\r\n": "3 map[address:a@x.example name:An;na]",
		"address,state,name,,\na@x.example,active,'=Anna,,\n":      "2 map[address:a@x.example name:=Anna state:active]",
		"address,name\n\na@x.example,\"An\nna\"\nb@x.example,B":    "3 map[address:a@x.example name:An\nna]|5 map[address:b@x.example name:B]",
		"address,name\na@x.example\nb@x.example,B,C":               "2 map[address:a@x.example] It has 1 fields|3 map[address:b@x.example name:B] It has 3 fields",
		"address\tname\na@x.example\t-1":                           "2 map[address:a@x.example name:-1]",
		"address,name\n":                                           "",
	} {
		s, err := ReadSheet([]byte(in), known)
		var got []string
		for _, r := range s.Rows {
			wrong, _, _ := strings.Cut(r.Wrong, ",")
			got = append(got, strings.TrimSpace(fmt.Sprintf("%d %v %s", r.Line, r.Cells, wrong)))
		}
		if err != nil || strings.Join(got, "|") != want {
			t.Errorf("%q: %q, %v; want %q", in, strings.Join(got, "|"), err, want)
		}
	}
	for in, want := range map[string]string{"": "headings", "what,ever\n1,2": "headings", "address,address\nx,y": "two columns address", "address,name\n\"a": "does not end", "PK\x03\x04": "spreadsheet program"} {
		if _, err := ReadSheet([]byte(in), known); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", in, err)
		}
	}
}

func FuzzReadSheet(f *testing.F) {
	f.Add([]byte("address,name\na@x.example,Anna\n"))
	f.Add([]byte("sep=;\r\naddress;name\r\n\"a\";b\r\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := ReadSheet(b, []string{"address", "name"})
		if err != nil {
			return
		}
		for _, r := range s.Rows {
			if r.Line < 2 || len(r.Cells) > len(s.Headings) {
				t.Errorf("%+v of %v", r, s.Headings)
			}
		}
	})
}
