// Package browser drives the console in Debian's headless Chromium as a person
// does: it finds things by what they are called, clicks them with the mouse
// and types. It waits for what it needs to be there, never for time to pass.
package browser

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Browser is a running Chromium without a window.
type Browser struct {
	ctx    context.Context
	cancel func()
}

// patience bounds every wait.
const patience = 20 * time.Second

// Start starts a browser that reaches nothing but this machine's loopback.
func Start(ctx context.Context) (*Browser, error) {
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.Flag("disable-gpu", true),
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1"),
		chromedp.Flag("force-color-profile", "srgb"), chromedp.WindowSize(1280, 800))
	allocated, stop := chromedp.NewExecAllocator(ctx, options...)
	tab, closeTab := chromedp.NewContext(allocated)
	if err := chromedp.Do(tab); err != nil {
		closeTab()
		stop()
		return nil, fmt.Errorf("start Chromium: %w", err)
	}
	return &Browser{tab, func() { closeTab(); stop() }}, nil
}

// Close ends the browser.
func (b *Browser) Close() { b.cancel() }

// Tab is one page of the browser, 1280 by 800 pixels.
type Tab struct {
	ctx   context.Context
	close context.CancelFunc

	mu     sync.Mutex
	faults []string // of the page's own programs, the first ones
}

// mostFaults is how many faults of a page are remembered.
const mostFaults = 5

// listen remembers what goes wrong in the page's programs.
func (t *Tab) listen(event any) {
	thrown, ok := event.(*runtime.EventExceptionThrown)
	if !ok {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.faults) < mostFaults {
		text := thrown.ExceptionDetails.Text
		if o := thrown.ExceptionDetails.Exception; o != nil {
			text += " " + o.Description
		}
		t.faults = append(t.faults, text)
	}
}

// Faults are what went wrong in the page's programs so far.
func (t *Tab) Faults() []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.Clone(t.faults)
}

// Tab opens an empty tab.
func (b *Browser) Tab() (*Tab, error) {
	ctx, cancel := chromedp.NewContext(b.ctx)
	t := &Tab{ctx: ctx, close: cancel}
	// The first call makes the tab, which lives as long as that call's context.
	if err := chromedp.Do(ctx); err != nil {
		cancel()
		return nil, err
	}
	if err := chromedp.Listen(ctx, t.listen); err != nil {
		cancel()
		return nil, err
	}
	return t, t.do(chromedp.EmulateViewport(1280, 800))
}

// Close closes the tab.
func (t *Tab) Close() { t.close() }

func (t *Tab) do(steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(t.ctx, patience)
	defer cancel()
	return chromedp.Do(ctx, steps...)
}

// Open goes to an address.
func (t *Tab) Open(address string) error { return t.do(chromedp.Navigate(address)) }

// Size sets the size of the page's window.
func (t *Tab) Size(width, height int64) error {
	return t.do(chromedp.EmulateViewport(width, height))
}

// Eval evaluates an expression that gives a T, waiting for promises.
func Eval[T any](t *Tab, expression string) (T, error) {
	ctx, cancel := context.WithTimeout(t.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[T](expression, chromedp.EvalAwaitPromise))
}

// Wait waits until an expression is true.
func (t *Tab) Wait(what, expression string) error {
	deadline := time.Now().Add(patience)
	for {
		ok, err := Eval[bool](t, "!!("+expression+")")
		if ok && err == nil {
			return nil
		}
		if time.Now().After(deadline) {
			text, _ := Eval[string](t, "document.body.innerText.replace(/\\s+/g, ' ').slice(0, 8000)")
			return fmt.Errorf("waited %s in vain for %s (%v); its programs met %v; the page says:\n%s", patience, what, err, t.Faults(), text)
		}
		// The page itself tells when it next has drawn something.
		_, _ = Eval[bool](t, "new Promise(r => requestAnimationFrame(() => setTimeout(() => r(true), 20)))")
	}
}

// See waits until the page shows a text.
func (t *Tab) See(text string) error {
	return t.Wait(fmt.Sprintf("%q", text), "document.body.innerText.replace(/\\s+/g, ' ').includes("+quote(text)+")")
}

// Gone waits until the page no longer shows a text.
func (t *Tab) Gone(text string) error {
	return t.Wait(fmt.Sprintf("%q to go", text), "!document.body.innerText.replace(/\\s+/g, ' ').includes("+quote(text)+")")
}

func quote(text string) string {
	b, _ := json.Marshal(text)
	return string(b)
}

// finders find an element by its kind and what it is called; the last match is
// the topmost, since dialogs come last in a page.
const finders = `(() => {
	const shown = e => e.getClientRects().length > 0;
	const name = e => (e.getAttribute('aria-label') || e.innerText || e.value || '').replace(/\s+/g, ' ').trim();
	const kinds = {
		button: 'button', link: 'a[href]', item: '[role=treeitem]', option: '[role=option]', summary: 'summary',
	};
	window.bspanMiddle = e => {
		e.scrollIntoView({block: 'nearest'});
		const r = e.getBoundingClientRect();
		return [r.x + r.width / 2, r.y + r.height / 2];
	};
	window.bspanReach = (kind, called) => {
		const e = bspanFind(kind, called);
		if (!e || document.getAnimations().some(a => a.playState === 'running')) return false;
		// It must stand still: what loads beside it may still push it away.
		const at = bspanMiddle(e).join(), still = at === window.bspanWas;
		window.bspanWas = at;
		const top = still && document.elementFromPoint(...bspanMiddle(e));
		return !!top && (e.contains(top) || top.contains(e) && top !== document.body && top !== document.documentElement);
	};
	window.bspanFind = (kind, called) => {
		if (kind === 'field') {
			const label = [...document.querySelectorAll('label')].filter(l => shown(l) && name(l) === called).pop();
			return label ? document.getElementById(label.htmlFor) || label.querySelector('input')
				: [...document.querySelectorAll('input, [role=combobox]')].filter(e => shown(e) && e.getAttribute('aria-label') === called).pop();
		}
		const all = [...document.querySelectorAll(kinds[kind])].filter(e => shown(e) && !e.disabled);
		return all.filter(e => name(e) === called).pop() || all.filter(e => name(e).startsWith(called)).pop();
	};
	return true;
})()`

func find(kind, called string) string {
	return finders + " && bspanFind(" + quote(kind) + ", " + quote(called) + ")"
}

// Click clicks the middle of a button, link, item, option, summary or field
// that is called so.
func (t *Tab) Click(kind, called string) error {
	element := quote(kind) + ", " + quote(called)
	// It must be there, and nothing may lie over it.
	if err := t.Wait(kind+" "+called+" within reach", finders+" && bspanReach("+element+")"); err != nil {
		return err
	}
	at, err := Eval[[]float64](t, "bspanMiddle(bspanFind("+element+"))")
	if err != nil {
		return err
	}
	if _, err := Eval[bool](t, "delete window.bspanWas"); err != nil {
		return err
	}
	return t.do(chromedp.MouseClickXY(at[0], at[1]))
}

// Drag drags one item onto another, with the events that a browser sends: it
// drops only where the page says that it takes it. It reports whether it did.
func (t *Tab) Drag(item, onto string) (taken bool, err error) {
	from, to := find("item", item), find("item", onto)
	for _, found := range []string{from, to} {
		if err := t.Wait("the item to be there", found); err != nil {
			return false, err
		}
	}
	return Eval[bool](t, `(async () => {
		const from = `+from+`, to = `+to+`, data = new DataTransfer();
		const send = (e, kind) => e.dispatchEvent(new DragEvent(kind, {bubbles: true, cancelable: true, dataTransfer: data}));
		const drawn = () => new Promise(r => requestAnimationFrame(() => requestAnimationFrame(() => r())));
		send(from, 'dragstart');
		await drawn();
		send(to, 'dragenter');
		const taken = !send(to, 'dragover');
		await drawn();
		if (taken) send(to, 'drop');
		send(from, 'dragend');
		return taken;
	})()`)
}

// focus clicks a field until it has the focus: content that loads can move the field before the click.
func (t *Tab) focus(field string) error {
	taken := find("field", field) + " === document.activeElement"
	for range 4 {
		if err := t.Click("field", field); err != nil {
			return err
		}
		if ok, err := Eval[bool](t, taken); ok && err == nil {
			return nil
		}
	}
	return t.Wait("the field "+field+" to take the focus", taken)
}

// Type puts a text into the field that is called so, in place of what is there.
func (t *Tab) Type(field, text string) error {
	if err := t.focus(field); err != nil {
		return err
	}
	if _, err := Eval[bool](t, "document.activeElement.select(), true"); err != nil {
		return err
	}
	if text == "" {
		return t.Press("\b")
	}
	return t.do(chromedp.KeyEvent(text))
}

// Press presses keys where the page's focus is.
func (t *Tab) Press(keys string) error { return t.do(chromedp.KeyEvent(keys)) }

// Choose chooses an option of the field that is called so.
func (t *Tab) Choose(field, option string) error {
	return errors.Join(t.Click("field", field), t.Click("option", option),
		t.Wait("the list of options to close", "!document.querySelector('[role=listbox]')"))
}

// settle waits until fonts are there and nothing moves any more.
func (t *Tab) settle() error {
	_, err := Eval[bool](t, "document.fonts.ready.then(() => Promise.all(document.getAnimations().map(a => a.finished.catch(() => 0)))).then(() => true)")
	return err
}

// Shot writes a picture of what the window shows.
func (t *Tab) Shot(file string) error {
	ctx, cancel := context.WithTimeout(t.ctx, patience)
	defer cancel()
	if err := t.settle(); err != nil {
		return err
	}
	picture, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return os.WriteFile(file, picture, 0o644)
}

// Violations runs axe-core over the page, from its source, and returns what it
// finds against WCAG 2.2 A and AA and its own best practices, in words: by all of the
// rules for that, or by those that are named.
func (t *Tab) Violations(axeSource string, rules ...string) ([]string, error) {
	loaded, err := Eval[bool](t, "typeof axe !== 'undefined'")
	if err == nil && !loaded {
		_, err = Eval[bool](t, axeSource+"; true")
	}
	if err != nil {
		return nil, err
	}
	only, err := json.Marshal(rules)
	if err != nil {
		return nil, err
	}
	if err := t.settle(); err != nil { // what fades in has no contrast yet
		return nil, err
	}
	type violation struct {
		ID, Help string
		Nodes    []string
	}
	found, err := Eval[[]violation](t, `axe.run(document, {resultTypes: ['violations'], runOnly: ((rules) => rules ? {type: 'rule', values: rules} : undefined)(`+string(only)+`)}).then(r => r.violations.map(v => ({ID: v.id, Help: v.help, Nodes: v.nodes.map(n => n.html.slice(0, 160) + ' ' + (n.any[0]?.message || ''))})))`)
	var list []string
	for _, v := range found {
		list = append(list, fmt.Sprintf("%s: %s: %s", v.ID, v.Help, strings.Join(v.Nodes, " | ")))
	}
	return list, err
}
