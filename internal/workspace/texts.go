package workspace

import (
	"cmp"
	"strconv"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/texts"
)

// MailTexts are the texts of a group as the interface shows them.
func MailTexts(t texts.Texts) api.MailTexts {
	out := api.MailTexts{Reply: t.Reply, Tag: t.Tag, Footer: t.Footer, Answer: t.Answer, AnswerDays: int(t.Period().Hours() / 24), Notice: t.Notice, From: cmp.Or(t.From, texts.ToAuthor)}
	if out.Reply == "" {
		out.Reply = texts.ToAuthor
	}
	return out
}

// ApplyTexts puts a patch into the texts of a group, and says what is wrong with what comes of it.
func ApplyTexts(t texts.Texts, p api.MailPatch) (texts.Texts, Problems) {
	for _, x := range []struct {
		from *string
		to   *string
	}{{p.Reply, &t.Reply}, {p.Tag, &t.Tag}, {p.Footer, &t.Footer}, {p.Answer, &t.Answer}, {p.Notice, &t.Notice}, {p.From, &t.From}} {
		if x.from != nil {
			*x.to = *x.from
		}
	}
	if p.AnswerDays != nil {
		t.AnswerDays = *p.AnswerDays
	}
	t = t.Clean()
	var bad Problems
	for _, f := range t.Check() {
		bad.Fault(f.Field, f.Given, f)
	}
	return t, bad
}

// TextChanges are the fields in which texts differ.
func TextChanges(before, after texts.Texts) (out []event.Change) {
	from, to := MailTexts(before), MailTexts(after)
	for _, x := range [][3]string{{"mail.reply", from.Reply, to.Reply}, {"mail.tag", from.Tag, to.Tag}, {"mail.footer", from.Footer, to.Footer}, {"mail.answer", from.Answer, to.Answer},
		{"mail.answer_days", strconv.Itoa(from.AnswerDays), strconv.Itoa(to.AnswerDays)}, {"mail.notice", from.Notice, to.Notice}, {"mail.from", from.From, to.From}} {
		if x[1] != x[2] {
			out = append(out, event.Change{Field: x[0], From: x[1], To: x[2]})
		}
	}
	return out
}
