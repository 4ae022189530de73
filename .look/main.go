package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

// look url pass out.png [js ...]: each js is evaluated then waits 700ms.
func main() {
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.WindowSize(1280, 800))
	a, c := chromedp.NewExecAllocator(context.Background(), opts...)
	defer c()
	ctx, c2 := chromedp.NewContext(a)
	defer c2()
	base, pass, page, out := os.Args[1], os.Args[2], os.Args[3], os.Args[4]
	acts := []chromedp.Action{
		chromedp.EmulateViewport(1280, 800),
		chromedp.Navigate(base),
		chromedp.WaitVisible(`input[type=password]`),
		chromedp.SendKeys(`input[autocomplete=username]`, "ostrander"),
		chromedp.SendKeys(`input[type=password]`, pass+"\r"),
		chromedp.WaitVisible(`nav`),
		chromedp.Navigate(base + page),
		chromedp.Sleep(2500 * time.Millisecond),
	}
	for _, js := range os.Args[5:] {
		if strings.HasPrefix(js, "key:") {
			acts = append(acts, chromedp.KeyEvent(strings.TrimPrefix(js, "key:")), chromedp.Sleep(700*time.Millisecond))
			continue
		}
		var r any
		acts = append(acts, chromedp.Evaluate(js, &r), chromedp.Sleep(900*time.Millisecond))
	}
	var buf []byte
	acts = append(acts, chromedp.CaptureScreenshot(&buf))
	if err := chromedp.Run(ctx, acts...); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	os.WriteFile(out, buf, 0o644)
}
