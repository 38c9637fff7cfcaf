// Package texts is what a group adds to the mail that it passes on, and what it says to those who write
// to it: where answers go, a tag in the subject, a footer, an automatic answer, a notice to senders.
//
// The zero value adds nothing and says nothing. How a footer gets into a message is for whoever takes
// messages apart; this package says what it may be, and what becomes of a subject.
package texts

import (
	"fmt"
	"mime"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/mailaddr"
)

// Where answers go, beside an address.
const (
	ToAuthor = "author" // whoever wrote, or where they ask answers to go
	ToGroup  = "group"
)

// In whose name mail of outsiders goes on, beside ToAuthor and ToGroup.
const WhereDue = "due" // that of the group where the author's domain asks others to refuse what does not prove itself (RFC 7489)

// Bounds, in characters.
const (
	MaxTag    = 30
	MaxFooter = 1000
	MaxLine   = 200 // of a footer, so that no line of mail gets too long (RFC 5322, 2.1.1)
	MaxWord   = 120 // of a footer
	MaxAnswer = 2000
	MaxNotice = 300
	MaxDays   = 90
)

// AnswerDays is for how many days nobody is answered twice, where nothing else is said (RFC 3834, 2).
const AnswerDays = 7

// Texts are those of one group.
type Texts struct {
	Reply      string `json:"reply,omitempty"`       // where answers go: "" and author are the same, group, or an address
	Tag        string `json:"tag,omitempty"`         // stands in brackets before the subject
	Footer     string `json:"footer,omitempty"`      // below each message; lines end in LF
	Answer     string `json:"answer,omitempty"`      // goes to who writes to the group; lines end in LF
	AnswerDays int    `json:"answer_days,omitempty"` // to the same sender at most once in so many days; 0 stands for AnswerDays
	Notice     string `json:"notice,omitempty"`      // for who is about to write
	From       string `json:"from,omitempty"`        // in whose name mail of outsiders goes on: "" and author are the same, group, or due
}

// Clean returns t with what is written in more than one way written in one: lines end in LF, what is left
// out is empty.
func (t Texts) Clean() Texts {
	lines := func(s string) string {
		return strings.TrimSpace(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(s))
	}
	t.Reply, t.Tag, t.Footer, t.Answer, t.Notice = strings.TrimSpace(t.Reply), strings.Trim(strings.TrimSpace(t.Tag), "[]"), lines(t.Footer), lines(t.Answer), strings.TrimSpace(t.Notice)
	if t.Reply == ToAuthor {
		t.Reply = ""
	}
	if t.From = strings.TrimSpace(t.From); t.From == ToAuthor {
		t.From = ""
	}
	if t.Answer == "" || t.AnswerDays == AnswerDays {
		t.AnswerDays = 0
	}
	return t
}

// Period is for how long nobody is answered twice.
func (t Texts) Period() time.Duration {
	days := t.AnswerDays
	if days == 0 {
		days = AnswerDays
	}
	return time.Duration(days) * 24 * time.Hour
}

// Check returns what is wrong with t, which was cleaned; the fields are named as in the interface.
func (t Texts) Check() (out []*fault.Fault) {
	bad := func(field, given, says, mend string) {
		out = append(out, &fault.Fault{Field: field, Given: given, Says: says, Mend: mend})
	}
	length := func(field, s string, most int) {
		if n := utf8.RuneCountInString(s); n > most {
			bad(field, "", fmt.Sprintf("It has %d characters; %d is the most.", n, most), "Shorten it.")
		}
	}
	if t.Reply != "" && t.Reply != ToGroup {
		if _, err := mailaddr.Parse(t.Reply); err != nil {
			bad("mail.reply", t.Reply, "Answers can go to the author, to the group or to an address, and this is none of them.", "Write author, group, or an address.")
		}
	}
	if t.From != "" && t.From != ToGroup && t.From != WhereDue {
		bad("mail.from", t.From, "Mail of outsiders goes on in the name of its author, of the group, or of the group where that is due.", "Write author, group or due.")
	}
	length("mail.tag", t.Tag, MaxTag)
	if strings.ContainsAny(t.Tag, "[]") {
		bad("mail.tag", t.Tag, "The brackets are put round it.", "Leave them out.")
	}
	length("mail.footer", t.Footer, MaxFooter)
	for i, line := range strings.Split(t.Footer, "\n") {
		if n := utf8.RuneCountInString(line); n > MaxLine {
			bad("mail.footer", "", fmt.Sprintf("Line %d has %d characters; %d is the most.", i+1, n, MaxLine), "Break it into lines.")
		}
		for _, w := range strings.Fields(line) {
			if n := utf8.RuneCountInString(w); n > MaxWord {
				bad("mail.footer", "", fmt.Sprintf("Line %d has a word of %d characters; %d is the most.", i+1, n, MaxWord), "Shorten it.")
			}
		}
	}
	length("mail.answer", t.Answer, MaxAnswer)
	length("mail.notice", t.Notice, MaxNotice)
	if t.AnswerDays < 0 || t.AnswerDays > MaxDays {
		bad("mail.answer_days", fmt.Sprint(t.AnswerDays), fmt.Sprintf("The same sender is answered once in 1 to %d days.", MaxDays), "Choose such a number.")
	}
	for _, x := range []struct{ field, text, lines string }{{"mail.tag", t.Tag, ""}, {"mail.footer", t.Footer, "\n"}, {"mail.answer", t.Answer, "\n"}, {"mail.notice", t.Notice, ""}} {
		at := 0
		for _, r := range x.text {
			at++
			if (!unicode.IsPrint(r) || r == utf8.RuneError) && !strings.ContainsRune(x.lines, r) {
				bad(x.field, "", fmt.Sprintf("Character %d is one that is not seen (U+%04X).", at, r), "Leave it out.")
				break
			}
		}
	}
	return out
}

// Renames reports whether mail of an outsider goes on in the name of the group; strict says that the author's domain asks others to refuse
// what does not prove itself.
func (t Texts) Renames(strict bool) bool { return t.From == ToGroup || t.From == WhereDue && strict }

// ReplyTo is where answers to what a group passes on go, as an address; "" leaves it as the author wrote it.
func (t Texts) ReplyTo(group string) string {
	if t.Reply == ToGroup {
		return group
	}
	return t.Reply
}

// Subject returns the value of a Subject field with the tag before it. A subject that has the tag already,
// wherever it stands in it, stays as it is: an answer has it after its Re. What is before it stays octet by
// octet, whatever its charset.
func (t Texts) Subject(value string) string {
	if t.Tag == "" {
		return value
	}
	decoded, err := new(mime.WordDecoder).DecodeHeader(value)
	if err != nil {
		decoded = value
	}
	tag := "[" + t.Tag + "]"
	value = strings.TrimLeft(value, " \t")
	word := mime.QEncoding.Encode("utf-8", tag)
	if strings.Contains(strings.ToLower(decoded), strings.ToLower(tag)) || strings.HasPrefix(value, strings.TrimSuffix(word, "?=")) {
		return value
	}
	if word != tag && strings.HasPrefix(value, "=?") { // white space between encoded words is not shown (RFC 2047, 6.2)
		word = mime.QEncoding.Encode("utf-8", tag+" ")
	}
	first, _, _ := strings.Cut(value, "\r\n")
	if len(word)+len(first) > 900 { // a line of mail has 998 octets at most
		return word + "\r\n " + value
	}
	return strings.TrimRight(word+" "+value, " ")
}
