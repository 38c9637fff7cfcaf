package mail_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/mail"
)

// scripted is a stand-in that answers by a script.
type scripted struct {
	net.Listener
	pipelines bool
	answer    func(command string) string // to one command; "" closes the connection
	refuse    string                      // the answer to the end of a message; "": it is taken
	cut       bool                        // it closes in the middle of a message

	mu       sync.Mutex
	heard    []string // all commands, of all connections
	together int      // how many of them came before the one before them was answered
	got      []string // messages that were whole
}

func (x *scripted) commands() []string {
	x.mu.Lock()
	defer x.mu.Unlock()
	out := x.heard
	x.heard = nil
	return out
}

func (x *scripted) serve(c net.Conn) {
	defer c.Close()
	r := bufio.NewReader(c)
	say := func(s string) { fmt.Fprintf(c, "%s\r\n", s) }
	say("220 relay.example ready")
	for {
		line, err := r.ReadString('\n')
		if err != nil {
			return
		}
		line = strings.TrimSuffix(line, "\r\n")
		x.mu.Lock()
		x.heard = append(x.heard, line)
		if r.Buffered() > 0 {
			x.together++
		}
		answer, refuse, cut := x.answer(line), x.refuse, x.cut
		x.mu.Unlock()
		switch {
		case strings.HasPrefix(line, "EHLO") && x.pipelines:
			answer = "250-relay.example\r\n250-PIPELINING\r\n250 8BITMIME"
		case strings.HasPrefix(line, "EHLO"):
			answer = "250-relay.example\r\n250 SMTPUTF8"
		case answer == "":
			return
		}
		say(answer)
		if line != "DATA" || !strings.HasPrefix(answer, "354") {
			continue
		}
		var text strings.Builder
		for {
			line, err := r.ReadString('\n')
			if err != nil || cut {
				return
			}
			if line == ".\r\n" {
				break
			}
			text.WriteString(line)
		}
		x.mu.Lock()
		x.got = append(x.got, text.String())
		x.mu.Unlock()
		if refuse == "" {
			refuse = "250 2.0.0 taken"
		}
		say(refuse)
	}
}

func newScripted(t *testing.T, pipelines bool, answer func(string) string) (*scripted, *mail.RelayClient) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	x := &scripted{Listener: l, pipelines: pipelines, answer: func(c string) string {
		if s := answer(c); s != "-" {
			return s
		}
		if c == "DATA" {
			return "354 go on"
		}
		return "250 2.1.0 fine"
	}}
	var all sync.WaitGroup
	all.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			all.Go(func() { x.serve(c) })
		}
	})
	k := (&mail.Relays{Addrs: []string{l.Addr().String()}, Domain: "ivytable.example"}).Client()
	t.Cleanup(func() { k.Close(); l.Close(); all.Wait() })
	return x, k
}

func plainly(string) string { return "-" }

func letter(text string) mail.Outgoing {
	return mail.Outgoing{From: "from@merrowline.example", Header: []byte("Subject: x\r\n\r\n"), Message: strings.NewReader("Subject: x\r\n\r\n" + text)}
}

var two = []string{"a@port.example", "b@port.example"}

func TestCommandsGoOutTogether(t *testing.T) {
	ctx := context.Background()
	for _, pipelines := range []bool{true, false} {
		x, k := newScripted(t, pipelines, plainly)
		for i := range 3 {
			results, err := k.Send(ctx, letter(fmt.Sprintf("%d\r\n.\r\n..two\r\n", i)), two)
			if err != nil || results[0] != nil || results[1] != nil {
				t.Fatalf("%v, %v", results, err)
			}
		}
		one := []string{"MAIL FROM:<from@merrowline.example>", "RCPT TO:<a@port.example>", "RCPT TO:<b@port.example>", "DATA"}
		if got, want := x.commands(), slices.Concat([]string{"EHLO ivytable.example"}, one, one, one); !slices.Equal(got, want) {
			t.Errorf("together %v: it heard %q", pipelines, got)
		}
		x.mu.Lock()
		if (x.together > 0) != pipelines {
			t.Errorf("together %v: %d commands came early", pipelines, x.together)
		}
		if len(x.got) != 3 || x.got[2] != "Subject: x\r\n\r\n2\r\n..\r\n...two\r\n" {
			t.Errorf("it got %q", x.got)
		}
		x.mu.Unlock()
	}
}

func TestWhatTheRelayRefuses(t *testing.T) {
	ctx := context.Background()
	for _, pipelines := range []bool{true, false} {
		for name, c := range map[string]struct {
			answers map[string]string
			refuse  string
			to      []string
			want    []string // of each recipient; "": taken
			got     int      // messages
			after   string   // commands of the next message, to see that it is not mixed with this one
		}{
			"the sender":       {answers: map[string]string{"MAIL FROM:<from@merrowline.example>": "550 5.7.1 not you", "RCPT TO:<a@port.example>": "503 5.5.1 no sender", "RCPT TO:<b@port.example>": "503 5.5.1 no sender", "DATA": "503 5.5.1 no sender"}, want: []string{"550 5.7.1 not you", "550 5.7.1 not you"}, after: "MAIL RCPT RCPT DATA"},
			"one recipient":    {answers: map[string]string{"RCPT TO:<b@port.example>": "550-5.1.1 nobody\r\n550 5.1.1 here"}, want: []string{"", "550 5.1.1 nobody here"}, got: 1, after: "MAIL RCPT RCPT DATA"},
			"one for now":      {answers: map[string]string{"RCPT TO:<a@port.example>": "451 4.7.1 later"}, want: []string{"451 4.7.1 later", ""}, got: 1, after: "MAIL RCPT RCPT DATA"},
			"all recipients":   {answers: map[string]string{"RCPT TO:<a@port.example>": "550 no", "RCPT TO:<b@port.example>": "550 no", "DATA": "554 5.5.1 nobody is left"}, want: []string{"550 no", "550 no"}, after: "RSET MAIL RCPT RCPT DATA"},
			"all, and goes on": {answers: map[string]string{"RCPT TO:<a@port.example>": "550 no", "RCPT TO:<b@port.example>": "550 no"}, want: []string{"550 no", "550 no"}, got: map[bool]int{true: 1}[pipelines], after: map[bool]string{true: "MAIL RCPT RCPT DATA", false: "RSET MAIL RCPT RCPT DATA"}[pipelines]},
			"the message":      {refuse: "552 5.3.4 too large", want: []string{"552 5.3.4 too large", "552 5.3.4 too large"}, got: 1, after: "MAIL RCPT RCPT DATA"},
			"its beginning":    {answers: map[string]string{"DATA": "452 4.3.1 no room"}, want: []string{"452 4.3.1 no room", "452 4.3.1 no room"}, after: "RSET MAIL RCPT RCPT DATA"},
			"an odd address":   {to: []string{"a@port.example", "b@port.example>\r\nRCPT TO:<c@port.example"}, want: []string{"", "553 5.1.3 This is no address."}, got: 1, after: "MAIL RCPT RCPT DATA"},
		} {
			on := true
			x, k := newScripted(t, pipelines, func(command string) string {
				if s := c.answers[command]; on && s != "" {
					return s
				}
				return "-"
			})
			x.refuse = c.refuse
			to := c.to
			if to == nil {
				to = two
			}
			results, err := k.Send(ctx, letter("Hello\r\n"), to)
			if err != nil {
				t.Errorf("%s: %v", name, err)
			}
			for i, r := range results {
				got := ""
				if r != nil {
					got = mail.Reply(r)
				}
				if got != c.want[i] {
					t.Errorf("%s, %v: %s is answered %q, not %q", name, pipelines, to[i], got, c.want[i])
				}
			}
			x.commands()
			x.mu.Lock()
			if len(x.got) != c.got {
				t.Errorf("%s, %v: it got %q", name, pipelines, x.got)
			}
			if c.got == 1 && c.answers["DATA"] == "" && name == "all, and goes on" && x.got[0] != "" {
				t.Errorf("nobody's message went out: %q", x.got)
			}
			on, x.refuse = false, ""
			x.mu.Unlock()
			if results, err := k.Send(ctx, letter("Again\r\n"), two); err != nil || results[0] != nil || results[1] != nil {
				t.Errorf("%s, %v: the next: %v, %v", name, pipelines, results, err)
			}
			var verbs []string
			for _, line := range x.commands() {
				verbs = append(verbs, strings.Fields(line)[0])
			}
			if got := strings.Join(verbs, " "); got != c.after {
				t.Errorf("%s, %v: then it heard %s, not %s", name, pipelines, got, c.after)
			}
		}
	}
}

// A relay that says nothing, closes, or says that it closes has answered nothing, and the message goes again.
func TestARelayThatDies(t *testing.T) {
	ctx := context.Background()
	x, k := newScripted(t, true, plainly)
	fine := func(when string) {
		t.Helper()
		if results, err := k.Send(ctx, letter("Hello\r\n"), two); err != nil || results[0] != nil {
			t.Errorf("%s: %v, %v", when, results, err)
		}
	}
	fine("first")
	dies := map[string]string{}
	x.mu.Lock()
	x.answer = func(c string) string {
		if s, is := dies[strings.Fields(c)[0]]; is {
			return s
		}
		if c == "DATA" {
			return "354 go on"
		}
		return "250 fine"
	}
	x.mu.Unlock()
	set := func(verb, answer string) {
		x.mu.Lock()
		defer x.mu.Unlock()
		clear(dies)
		if verb != "" {
			dies[verb] = answer
		}
	}
	for _, c := range [][2]string{{"RCPT", ""}, {"DATA", ""}, {"RCPT", "421 4.3.2 closing"}, {"DATA", "421 closing"}} {
		set(c[0], c[1])
		results, err := k.Send(ctx, letter("Hello\r\n"), two)
		if answered, _ := mail.Answered(err); err == nil || answered {
			t.Errorf("%v: %v, %v", c, results, err)
		}
		set("", "")
		fine(fmt.Sprint(c))
	}
	// closed between two messages: nothing of the second was heard, so it goes over another connection
	once := true
	x.mu.Lock()
	before := x.answer
	x.answer = func(c string) string {
		if strings.HasPrefix(c, "MAIL") && once {
			once = false
			return ""
		}
		return before(c)
	}
	x.mu.Unlock()
	fine("closed meanwhile")
	// in the middle of a message
	x.mu.Lock()
	x.cut = true
	n := len(x.got)
	x.mu.Unlock()
	if _, err := k.Send(ctx, letter(strings.Repeat("0123456789abcdef\r\n", 100000)), two); err == nil {
		t.Error("a message that was cut counts as sent")
	}
	x.mu.Lock()
	x.cut = false
	if len(x.got) != n {
		t.Error("half a message was ended")
	}
	x.mu.Unlock()
	fine("after it was cut")
	// a body that can't be read ends nothing
	m := letter("")
	m.Message = io.MultiReader(strings.NewReader("Subject: x\r\n\r\nhalf"), broken{})
	if _, err := k.Send(ctx, m, two); err == nil {
		t.Error("half a message counts as sent")
	}
	fine("after half a message")
	x.mu.Lock()
	for _, g := range x.got {
		if strings.Contains(g, "half") {
			t.Errorf("half a message was ended: %q", g)
		}
	}
	// an answer without end
	x.answer = func(string) string { return "250 " + strings.Repeat("x", 1<<20) }
	x.mu.Unlock()
	if _, err := k.Send(ctx, letter("Hello\r\n"), two); err == nil {
		t.Error("an answer without end is taken")
	}
}

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }
