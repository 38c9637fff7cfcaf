package texts

import (
	"mime"
	"strings"
	"testing"
)

func TestSubject(t *testing.T) {
	for _, c := range []struct{ tag, subject, want string }{
		{"", "Tides", "Tides"},
		{"Deck", "Tides", "[Deck] Tides"},
		{"Deck", "", "[Deck]"},
		{"Deck", "Re: [Deck] Tides", "Re: [Deck] Tides"},
		{"Deck", "RE: AW: [deck] Tides", "RE: AW: [deck] Tides"},
		{"Deck", "Re: Tides", "[Deck] Re: Tides"},
		{"Deck", "=?utf-8?q?F=C3=A4hre?=", "[Deck] =?utf-8?q?F=C3=A4hre?="},
		{"Deck", "=?utf-8?b?W0RlY2tdIEbDpGhyZQ==?=", "=?utf-8?b?W0RlY2tdIEbDpGhyZQ==?="}, // it is in there
		{"Deck", "=?klingon?q?x?=", "[Deck] =?klingon?q?x?="},
		{"Fähre", "Tides", "=?utf-8?q?[F=C3=A4hre]?= Tides"},
		{"Fähre", "=?utf-8?q?F=C3=A4hre?=", "=?utf-8?q?[F=C3=A4hre]_?= =?utf-8?q?F=C3=A4hre?="},
		{"Deck", "Tides\r\n of the day", "[Deck] Tides\r\n of the day"},
	} {
		got := Texts{Tag: c.tag}.Subject(c.subject)
		if got != c.want {
			t.Errorf("%q before %q: %q, want %q", c.tag, c.subject, got, c.want)
		}
		if again := (Texts{Tag: c.tag}).Subject(got); again != got {
			t.Errorf("twice before %q: %q", c.subject, again)
		}
	}
	if shown, _ := new(mime.WordDecoder).DecodeHeader(Texts{Tag: "Fähre"}.Subject("=?utf-8?q?F=C3=A4hre?=")); shown != "[Fähre] Fähre" {
		t.Errorf("%q is shown", shown)
	}
	for line := range strings.SplitSeq(Texts{Tag: strings.Repeat("ü", MaxTag)}.Subject(strings.Repeat("x", 900)), "\r\n") {
		if len(line) > 990 {
			t.Errorf("a line of %d octets", len(line))
		}
	}
}

func FuzzSubject(f *testing.F) {
	f.Add("Deck", "Re: [Deck] x")
	f.Add("Fähre", "=?utf-8?q?F=C3=A4hre?=")
	f.Add("]", "=?=?=")
	f.Fuzz(func(t *testing.T, tag, subject string) {
		x := Texts{Tag: tag}.Clean()
		if len(x.Check()) > 0 || strings.ContainsAny(subject, "\r\n") {
			return
		}
		once := x.Subject(subject)
		if twice := x.Subject(once); twice != once {
			t.Errorf("%q before %q: %q, then %q", tag, subject, once, twice)
		}
		if !strings.HasSuffix(strings.TrimRight(once, " \t"), strings.Trim(subject, " \t")) {
			t.Errorf("%q before %q: %q", tag, subject, once)
		}
	})
}

func TestCheck(t *testing.T) {
	good := Texts{Reply: "owners@gannetport.example", Tag: "[Deck]", Footer: "Merrow Line\r\nThe office", Answer: "We answer\nwithin a day.", AnswerDays: 7, Notice: "Away at the fair this week."}.Clean()
	if good.Tag != "Deck" || good.Footer != "Merrow Line\nThe office" || good.AnswerDays != 0 || len(good.Check()) != 0 {
		t.Errorf("%+v, %v", good, good.Check())
	}
	if got := (Texts{Reply: "author", AnswerDays: 30}).Clean(); got != (Texts{}) {
		t.Errorf("%+v", got)
	}
	for field, x := range map[string]Texts{
		"mail.reply":       {Reply: "everybody"},
		"mail.tag":         {Tag: strings.Repeat("x", MaxTag+1)},
		"mail.footer":      {Footer: strings.Repeat("word ", MaxLine/4)},
		"mail.answer":      {Answer: "x\x00"},
		"mail.notice":      {Notice: "\u202eaway"},
		"mail.answer_days": {Answer: "x", AnswerDays: MaxDays + 1},
	} {
		if bad := x.Clean().Check(); len(bad) != 1 || bad[0].Field != field || bad[0].Says == "" || bad[0].Mend == "" {
			t.Errorf("%s: %v", field, bad)
		}
	}
	for _, x := range []Texts{{Tag: "a]b"}, {Tag: "a\nb"}, {Footer: strings.Repeat("x", MaxWord+1)}, {Notice: "two\nlines"}, {Reply: "a@b\r\nBcc: x@y.example"}} {
		if bad := x.Clean().Check(); len(bad) == 0 {
			t.Errorf("%+v is taken", x)
		}
	}
}

func TestReplyTo(t *testing.T) {
	for reply, want := range map[string]string{"": "", "author": "", "group": "deck@merrowline.example", "desk@merrowline.example": "desk@merrowline.example"} {
		if got := (Texts{Reply: reply}).Clean().ReplyTo("deck@merrowline.example"); got != want {
			t.Errorf("%q: %q", reply, got)
		}
	}
}
