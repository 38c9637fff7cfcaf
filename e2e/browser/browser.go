// Package browser drives the console as a person would, in headless Chromium: by
// the labels of fields and the words on buttons.
package browser

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// Patience is how long a page has to show what is waited for.
const Patience = 15 * time.Second

// Browser is a running browser.
type Browser struct {
	ctx   context.Context
	close func()
}

// Page is one tab, with a profile of its own.
type Page struct {
	ctx    context.Context
	cancel func()
}

// Start starts a browser.
func Start(ctx context.Context) (*Browser, error) {
	dir, err := os.MkdirTemp("", "browser")
	if err != nil {
		return nil, err
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.UserDataDir(dir))
	for _, f := range []string{"disable-gpu", "disable-quic", "no-first-run", "disable-background-networking", "disable-component-update", "disable-sync"} {
		opts = append(opts, chromedp.Flag(f, true))
	}
	alloc, stopAlloc := chromedp.NewExecAllocator(ctx, opts...)
	first, stop := chromedp.NewContext(alloc)
	b := &Browser{first, func() { stop(); stopAlloc(); os.RemoveAll(dir) }}
	if err := chromedp.Do(first); err != nil {
		b.Close()
		return nil, fmt.Errorf("start the browser: %w", err)
	}
	return b, nil
}

// Close ends the browser.
func (b *Browser) Close() { b.close() }

// Open opens a tab in which nobody is signed in, with a viewport of the given size.
func (b *Browser) Open(width, height int64) (*Page, error) {
	tab, stop := chromedp.NewContext(b.ctx, chromedp.WithNewBrowserContext())
	p := &Page{tab, stop}
	if err := chromedp.Do(tab, chromedp.EmulateViewport(width, height)); err != nil {
		p.Close()
		return nil, fmt.Errorf("open a tab: %w", err)
	}
	return p, nil
}

// Close closes the tab.
func (p *Page) Close() { p.cancel() }

// Goto opens an address.
func (p *Page) Goto(url string) error { return chromedp.Do(p.ctx, chromedp.Navigate(url)) }

// Eval runs a script and returns its value as text.
func (p *Page) Eval(js string) (string, error) {
	return chromedp.Run(p.ctx, chromedp.Evaluate[string]("String("+js+")"))
}

// Until waits for a script to be true.
func (p *Page) Until(js string) error {
	ctx, cancel := context.WithTimeout(p.ctx, Patience)
	defer cancel()
	for tick := time.NewTicker(30 * time.Millisecond); ; {
		ok, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("!!("+js+")"))
		if err == nil && ok {
			tick.Stop()
			return nil
		}
		select {
		case <-ctx.Done():
			text, _ := p.Eval("document.body.innerText")
			return fmt.Errorf("never came true: %s; the page says:\n%s", js, text)
		case <-tick.C:
		}
	}
}

func quote(s string) string {
	b, _ := json.Marshal(s)
	return string(b)
}

// See waits for a text on the page.
func (p *Page) See(text string) error {
	return p.Until("document.body && document.body.innerText.includes(" + quote(text) + ")")
}

// Gone waits for a text to be no longer on the page.
func (p *Page) Gone(text string) error {
	return p.Until("!document.body.innerText.includes(" + quote(text) + ")")
}

// pressable finds what can be pressed by its words or its label.
const pressable = `[...document.querySelectorAll('button, a, [role=option], [role=menuitem]')].filter(e => e.checkVisibility() && !e.disabled)
	.find(e => { const t = %s; return e.innerText.trim() === t || e.getAttribute('aria-label') === t || e.innerText.trim().split('\n')[0] === t })`

// Press presses the button, link or choice with these words or this label.
func (p *Page) Press(text string) error {
	find := fmt.Sprintf(pressable, quote(text))
	if err := p.Until(find); err != nil {
		return fmt.Errorf("press %q: %w", text, err)
	}
	// A menu knows what is pointed at before it is clicked on.
	_, err := p.Eval("(" + find + ").dispatchEvent(new PointerEvent('pointermove', {bubbles: true, pointerType: 'mouse'}))")
	if err == nil {
		_, err = p.Eval("(" + find + ").click()")
	}
	return err
}

// Fill types into a field, in place of what is there.
func (p *Page) Fill(css, text string) error {
	if err := p.Until("document.querySelector(" + quote(css) + ")"); err != nil {
		return err
	}
	if _, err := p.Eval("(e => { e.focus(); e.select && e.select() })(document.querySelector(" + quote(css) + "))"); err != nil {
		return err
	}
	if text == "" {
		return chromedp.Do(p.ctx, chromedp.KeyEvent(kb.Backspace))
	}
	return chromedp.Do(p.ctx, chromedp.KeyEvent(text))
}

// Key presses one key.
func (p *Page) Key(key string) error { return chromedp.Do(p.ctx, chromedp.KeyEvent(key)) }

// Slash presses the slash key. Key would type it too where pressing it moves the focus
// into a field, which a person's key does not.
func (p *Page) Slash() error {
	_, err := p.Eval("document.activeElement.dispatchEvent(new KeyboardEvent('keydown', {key: '/', bubbles: true}))")
	return err
}

// Control presses a key together with Ctrl.
func (p *Page) Control(key string) error {
	return chromedp.Do(p.ctx, chromedp.KeyEvent(key, chromedp.KeyModifiers(chromedp.ModifierCtrl)))
}

// Choose chooses a value of a drop-down list.
func (p *Page) Choose(css, value string) error {
	if err := p.Until("document.querySelector(" + quote(css) + ")"); err != nil {
		return err
	}
	_, err := p.Eval(`(e => { Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(e, ` + quote(value) +
		`); e.dispatchEvent(new Event('change', {bubbles: true})) })(document.querySelector(` + quote(css) + `))`)
	return err
}

// Top scrolls the page to its beginning.
func (p *Page) Top() error {
	_, err := p.Eval("document.querySelector('main').scrollTo(0, 0)")
	return err
}

// SignIn signs in on the sign-in page of a service.
func (p *Page) SignIn(url, address, password string) error {
	return errors.Join(p.Goto(url), p.Fill("[name=address]", address), p.Fill("[name=password]", password), p.Press("Sign in"), p.Gone("Password"))
}

// Dark turns the colour mode.
func (p *Page) Dark(on bool) error {
	mode := map[bool]string{true: "dark", false: "light"}[on]
	_, err := p.Eval("localStorage.setItem('colour-mode', " + quote(mode) + ")")
	return err
}

// Shot returns a picture of the page, as PNG.
func (p *Page) Shot() ([]byte, error) {
	if err := p.Until("document.fonts.status === 'loaded' && !document.querySelector('[role=status] .chakra-spinner')"); err != nil {
		return nil, err
	}
	return chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
}
