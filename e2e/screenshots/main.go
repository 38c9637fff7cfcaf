// Command screenshots takes the pictures of docs/screenshots from a running demo
// that was newly made.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"

	"ivytable.example/ivytable/e2e/browser"
	"ivytable.example/ivytable/internal/demo"
)

// shot is one picture: who looks at which page, "" for nobody in particular, and what they do there first.
type shot struct {
	name, as, path, see string
	office              bool // of the post office
	do                  func(*browser.Page) error
}

func main() {
	url := flag.String("url", "http://127.0.0.1:8480", "the console of the demo")
	office := flag.String("office", "http://127.0.0.1:8481", "the post office of the demo")
	dir := flag.String("dir", "docs/screenshots", "where the pictures go")
	only := flag.String("only", "", "only the picture of this name")
	dark := flag.Bool("dark", false, "in dark colours")
	narrow := flag.Bool("narrow", false, "on a small screen")
	flag.Parse()
	if err := run(*url, *office, *dir, *only, *dark, *narrow); err != nil {
		fmt.Fprintln(os.Stderr, "screenshots:", err)
		os.Exit(1)
	}
}

var shots = []shot{
	{name: "groups", as: demo.Administrator, path: "/groups?filter=owners%20eq%201%20and%20post%20ge%20%22workspace%22", see: "number of owners", do: func(p *browser.Page) error {
		_, err := p.Eval(`[...document.querySelectorAll('tbody input[type=checkbox]')].slice(1, 4).forEach(x => x.click())`)
		return errors.Join(err, p.See("3 groups picked"))
	}},
	{name: "create", as: demo.Administrator, path: "/groups/new", see: "may come in", do: func(p *browser.Page) error {
		return errors.Join(
			p.Fill("[name=name]", "Slipway Repairs"), p.See("This address is free."),
			p.Fill("#owners input", "oda"), p.Press("Oda Fenn"), p.Fill("#owners input", "bram tol"), p.Press("Bram Tolley"),
			p.Fill("#people input", "pilot@gannetport.example"), p.Press("pilot@gannetport.example"), p.Press("Let owners add external members"), p.Fill("#people input", "tove al"), p.Press("Tove Alder"),
			p.See("Create and add 4 people"), p.Top())
	}},
	{name: "group-overview", as: demo.Administrator, path: "/groups/lost-property@merrowline.example", see: "It would wait for approval."},
	{name: "group-people", as: demo.Administrator, path: "/groups/harbour-liaison@merrowline.example/people", see: "Hale Corran", do: func(p *browser.Page) error {
		return errors.Join(p.Press("Many at once"), p.Fill("[name=many]", "Tove Alder <tove.alder@merrowline.example>, oda.fenn@merowline.example; Anders"), p.See("several people"))
	}},
	{name: "group-rule", as: demo.Administrator, path: "/groups/gannet-quay-deck@crew.merrowline.example/people", see: "In by it", do: func(p *browser.Page) error {
		return errors.Join(p.Press("Change the rule"), p.Fill("[name=rule]", "department eq \"Deck\" and title "), p.See("begins with"), p.Fill("[name=rule]", "department eq \"Deck\" and addresses.locality sw \"Gannet\" "), p.See("Then:"), p.See("12 of 237 people match"))
	}},
	{name: "person", as: demo.Administrator, path: "/people/" + demo.Owner, see: "Entry in"},
	{name: "rules", as: demo.Administrator, path: "/rules", see: "Seasonal route", do: func(p *browser.Page) error {
		return errors.Join(p.Fill("[name=try-name]", "Payroll Nord"), p.Fill("[role=combobox]", "tove al"), p.Press("Tove Alder"), p.See("is reserved"))
	}},
	{name: "group-reach", as: demo.Administrator, path: "/groups/night-dispatch@merrowline.example/reach", see: "Who may do what", do: func(p *browser.Page) error {
		return errors.Join(p.Choose(`select[aria-label="Who can write to it"]`, "anyone"), p.See("A draft, not saved yet"), p.See("can write to it from now on"))
	}},
	{name: "group-mail", as: demo.Administrator, path: "/groups/fuel-orders@merrowline.example/mail", see: "Marine diesel", do: func(p *browser.Page) error {
		_, err := p.Eval(`document.querySelector('[aria-label^="More about: Marine diesel"]').click()`)
		err = errors.Join(err, p.See("This mailbox was closed"))
		_, no := p.Eval(`document.querySelector('[aria-label^="Less about: Marine diesel"]').scrollIntoView()`)
		return errors.Join(err, no)
	}},
	{name: "domain", as: demo.Administrator, path: "/rules", see: "crew.merrowline.example", do: func(p *browser.Page) error {
		_, err := p.Eval(`document.querySelector('[aria-label="Check crew.merrowline.example"]').click()`)
		err = errors.Join(err, p.See("things are to be done"))
		_, no := p.Eval(`document.querySelector('[data-check]').closest('ul').scrollIntoView()`)
		return errors.Join(err, no)
	}},
	{name: "digest", office: true, path: "/boxes/" + demo.Reader, see: "Night Dispatch", do: func(p *browser.Page) error {
		_, err := p.Eval(`[...document.querySelectorAll('a')].find(a => a.textContent.startsWith('Night Dispatch, ')).click()`)
		err = errors.Join(err, p.See("multipart/digest"))
		_, no := p.Eval(`scrollTo(0, 420)`)
		return errors.Join(err, no)
	}},
	{name: "care", as: demo.Administrator, path: "/care", see: "Findings of the last 13 weeks"},
	{name: "findings", as: demo.Administrator, path: "/care/findings?kind=open_unheld", see: "Emergency Call-out"},
	{name: "round", as: demo.Administrator, path: "/care/rounds", see: "Autumn round", do: func(p *browser.Page) error {
		return errors.Join(p.Press("Autumn round"), p.See("of 13 done"))
	}},
	{name: "waiting", as: demo.Administrator, path: "/waiting", see: "A green umbrella"},
	{name: "history", as: demo.Administrator, path: "/history", see: "notice"},
	{name: "mine", as: demo.Owner, path: "/mine", see: "I own"},
	{name: "public", path: "/public/harbour-liaison@merrowline.example", see: "Being in it"},
}

func run(url, office, dir, only string, dark, narrow bool) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	b, err := browser.Start(context.Background())
	if err != nil {
		return err
	}
	defer b.Close()
	for _, s := range shots {
		if only != "" && only != s.name {
			continue
		}
		at := url
		if s.office {
			at = office
		}
		if err := take(b, s, at, dir, dark, narrow); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
	}
	return nil
}

func take(b *browser.Browser, s shot, url, dir string, dark, narrow bool) error {
	width, height := int64(1280), int64(800)
	if narrow {
		width, height = 390, 844
	}
	p, err := b.Open(width, height)
	if err != nil {
		return err
	}
	defer p.Close()
	if s.as != "" {
		if err := p.SignIn(url, s.as, demo.Password); err != nil {
			return err
		}
	}
	if err := errors.Join(p.Goto(url+s.path), p.Dark(dark), p.Goto(url+s.path), p.See(s.see)); err != nil {
		return err
	}
	if s.do != nil {
		if err := s.do(p); err != nil {
			return err
		}
	}
	png, err := p.Shot()
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, s.name+".png"), png, 0o644)
}
