// Package e2e drives the real interface in headless Chromium against a real
// server, database and worker. harness_test.go starts them and has what a
// person does: go, click, type, wait for what must be seen. Every wait is for a
// condition, never for a time.
package e2e

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/require"

	"welkin/demo"
	"welkin/localpg/pgtest"
	"welkin/store"
	"welkin/web/api"
	"welkin/work"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// patience is how long a person would wait for something to show.
var patience = func() time.Duration {
	if d, err := time.ParseDuration(os.Getenv("WELKIN_PATIENCE")); err == nil { // shorter while a test is written
		return d
	}
	return 30 * time.Second
}()

// installation is a whole Welkin with the scenario's data at a small scale.
type installation struct {
	t        *testing.T
	url      string
	store    *store.Store
	folder   string
	signIn   demo.SignIn
	incoming string
	database struct{ host, port, user, password, booking, warehouse string }
}

// start makes an installation; scale is the demo's.
func start(t *testing.T, scale float64) *installation {
	t.Helper()
	ctx := context.Background()
	pg := pgtest.Server(t)
	in := &installation{t: t, folder: t.TempDir()}
	_, address := pgtest.Database(t)
	booking, bookingAddress := pgtest.Database(t)
	warehouse, _ := pgtest.Database(t)
	g := demo.New(demo.Options{Scale: scale, Today: time.Now()})
	require.NoError(t, g.Booking(ctx, bookingAddress))
	in.incoming = filepath.Join(in.folder, "incoming")
	require.NoError(t, g.Incoming(in.incoming))
	seal, err := store.NewSeal(base64.StdEncoding.EncodeToString([]byte("a key of thirty-two bytes, truly")))
	require.NoError(t, err)
	in.store, err = store.Open(ctx, address, seal)
	require.NoError(t, err)
	in.signIn, err = demo.People(ctx, in.store, filepath.Join(in.folder, "sign-in.json"))
	require.NoError(t, err)
	in.database.host, in.database.port, in.database.user, in.database.password = "127.0.0.1", fmt.Sprint(pg.Port), pg.User(), pg.Password()
	in.database.booking, in.database.warehouse = booking, warehouse
	w, err := work.New(in.store, work.Options{TempDir: in.folder})
	require.NoError(t, err)
	require.NoError(t, w.Start(ctx))
	server := api.New(api.Server{Store: in.store, Work: w, Log: slog.New(slog.DiscardHandler), Clock: time.Now, Metrics: prometheus.NewRegistry()})
	live, stop := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() { server.Run(live); close(ended) }()
	web := httptest.NewServer(server.Handler())
	in.url = web.URL
	t.Cleanup(func() {
		stop()
		<-ended
		soft, cancel := context.WithTimeout(ctx, 10*time.Second)
		defer cancel()
		w.Stop(soft)
		web.CloseClientConnections()
		web.Close()
		in.store.Close()
	})
	return in
}

// withDemo adds the demo's connections and pipelines.
func (in *installation) withDemo() *installation {
	in.t.Helper()
	ctx := context.Background()
	folder, _ := json.Marshal(map[string]any{"path": in.incoming})
	require.NoError(in.t, demo.Connections(ctx, in.store, store.Connection{Name: "incoming", Kind: "folder", Settings: folder}, nil))
	for _, name := range []string{"booking", "warehouse"} { // in this order: pages are opened by number
		database := map[string]string{"booking": in.database.booking, "warehouse": in.database.warehouse}[name]
		var port int
		_, err := fmt.Sscan(in.database.port, &port)
		require.NoError(in.t, err)
		text, _ := json.Marshal(map[string]any{"host": in.database.host, "port": port, "database": database, "user": in.database.user, "tls": "disable"})
		require.NoError(in.t, demo.Connections(ctx, in.store, store.Connection{Name: name, Kind: "postgresql", Settings: text}, map[string]string{"password": in.database.password}))
	}
	require.NoError(in.t, demo.Pipelines(ctx, in.store))
	return in
}

// browser is a page of a browser, as a person uses it.
type browser struct {
	*installation
	ctx    context.Context
	errors []string
}

// open starts a browser on an installation.
func (in *installation) open() *browser {
	in.t.Helper()
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.WindowSize(1280, 800), chromedp.UserDataDir(in.t.TempDir()), chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true))
	ctx, cancelAllocator := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, cancel := chromedp.NewContext(ctx)
	in.t.Cleanup(func() { cancel(); cancelAllocator() })
	b := &browser{installation: in, ctx: ctx}
	require.NoError(in.t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	listening := make(chan struct{})
	go func() {
		close(listening)
		for m, err := range chromedp.Console(ctx) {
			if err != nil {
				return
			}
			if text := m.String(); m.IsException() || strings.Contains(strings.ToLower(text), "error") {
				b.errors = append(b.errors, text)
			}
		}
	}()
	<-listening
	return b
}

func (b *browser) do(what string, steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		seen, _ := chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.body.innerText.slice(0, 1500)`))
		b.shot("failed")
		require.NoError(b.t, err, "%s; the page said:\n%s\nconsole: %s", what, seen, b.errors)
	}
}

// visit opens an address of the app.
func (b *browser) visit(path string) {
	b.t.Helper()
	b.do("visit "+path, chromedp.Navigate(b.url+path))
}

// fresh opens an address of the app without what was left unsaved before.
func (b *browser) fresh(path string) {
	b.t.Helper()
	b.visit("/runs") // a page that goes keeps what was typed
	b.see("asked for")
	b.until("no draft is left", `(() => { for (const k of Object.keys(localStorage)) if (k.startsWith('welkin.draft.')) localStorage.removeItem(k); sessionStorage.clear(); return true })()`)
	b.visit(path)
}

// sign signs in.
func (b *browser) sign() *browser {
	b.t.Helper()
	b.visit("/")
	b.fill("[name=login]", b.signIn.Login)
	b.fill("[name=password]", b.signIn.Password)
	b.push("Sign in")
	b.see("Needs a person")
	return b
}

// quoted writes a JavaScript string.
func quoted(s string) string {
	text, _ := json.Marshal(s)
	return string(text)
}

// until waits for a condition of the page.
func (b *browser) until(what, condition string) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	if _, err := chromedp.Run(ctx, chromedp.Poll[bool](condition, chromedp.WithPollingInterval(30*time.Millisecond), chromedp.WithPollingTimeout(patience))); err != nil {
		seen, _ := chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.body.innerText.slice(0, 2500)`))
		b.shot("failed")
		require.NoError(b.t, err, "%s; the page said:\n%s\nconsole: %s", what, seen, b.errors)
	}
}

// see waits until the page shows a text.
func (b *browser) see(text string) {
	b.t.Helper()
	b.until("see "+text, `document.body.innerText.replace(/\s+/g, ' ').includes(`+quoted(text)+`)`)
}

// there waits for an element.
func (b *browser) there(selector string) {
	b.t.Helper()
	b.until("find "+selector, `document.querySelector(`+quoted(selector)+`) !== null`)
}

// push clicks the first enabled button, link or tab with a text.
func (b *browser) push(text string) {
	b.t.Helper()
	find := `[...document.querySelectorAll('button, a, [role=tab], .hits li')].find((e) => !e.disabled && e.innerText.replace(/\s+/g, ' ').trim().startsWith(` + quoted(text) + `))`
	b.until("find the button "+text, find+` !== undefined`)
	b.until("push "+text, `(() => { const e = `+find+`; e?.focus(); e?.click(); return e !== undefined })()`)
}

// fill replaces a field's text by typing.
func (b *browser) fill(selector, text string) {
	b.t.Helper()
	b.there(selector)
	b.until("choose "+selector, `(() => { const e = document.querySelector(`+quoted(selector)+`); e.focus(); e.select?.(); return document.activeElement === e })()`)
	b.do("select all of "+selector, chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	if text == "" {
		b.do("clear "+selector, chromedp.KeyEvent(kb.Backspace))
		return
	}
	b.do("type into "+selector, chromedp.KeyEvent(text))
}

// pick chooses an option of a select by its value.
func (b *browser) pick(selector, value string) {
	b.t.Helper()
	b.until("option "+value+" of "+selector, `[...(document.querySelector(`+quoted(selector)+`)?.options ?? [])].some((o) => o.value === `+quoted(value)+`)`)
	b.until("pick "+value, `(() => { const e = document.querySelector(`+quoted(selector)+`); e.value = `+quoted(value)+`; e.dispatchEvent(new Event('change', { bubbles: true })); return true })()`)
}

// press presses a key.
func (b *browser) press(key string) {
	b.t.Helper()
	b.do("press "+key, chromedp.KeyEvent(key))
}

// shot takes a picture into the folder that WELKIN_SHOTS names, if any.
func (b *browser) shot(name string) {
	folder := os.Getenv("WELKIN_SHOTS")
	if folder == "" {
		return
	}
	png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	if err == nil {
		err = os.WriteFile(filepath.Join(folder, name+".png"), png, 0o644)
	}
	if err != nil {
		b.t.Logf("no picture %s: %s", name, err)
	}
}

// figure gives the figure that stands beside a label of a receipt.
func (b *browser) figure(label string) string {
	b.t.Helper()
	text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`[...document.querySelectorAll('.rec > div')].find((d) => d.innerText.startsWith(`+quoted(label)+`)).querySelector('.num').innerText.replace(/\s/g, '')`))
	require.NoError(b.t, err)
	return text
}
