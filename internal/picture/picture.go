// Package picture takes pictures of pages with the machine's Chromium, and tells how much two of them differ.
package picture

import (
	"context"
	"fmt"
	"image"
	"image/jpeg"
	"net"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/remote"

	"vessik/internal/cell"
	"vessik/internal/core/screens"
	"vessik/internal/ownfile"
)

// Browser is the path of Chromium's own program, not of the script that starts it for people; empty where there is none.
func Browser() string {
	for _, path := range []string{"/usr/lib/chromium/chromium", "/usr/lib/chromium-browser/chromium-browser"} {
		if info, err := os.Stat(path); err == nil && info.Mode()&0o111 != 0 {
			return path
		}
	}
	return ""
}

// Taker has a browser, which starts when it is first asked for and ends when nobody has asked for a while. It shows a few pages at a time.
type Taker struct {
	Dir   string // for the browser's own files
	Cells *cell.Cells
	Ports []int // of the gateway: all that the browser reaches

	mu      sync.Mutex
	browser context.Context
	end     func()
	idle    *time.Timer
	users   int

	places chan struct{} // of pages that are looked at at once

	taking sync.Mutex
	kept   map[string]keptPicture // pictures of the sites that copies are compared with
}

type keptPicture struct {
	image image.Image
	taken time.Time
}

const (
	browserIdle = 20 * time.Second
	pictureAge  = time.Minute
)

// Comparison is the pictures of two pages, and the share of their pixels, 0 to 1, in which they differ.
type Comparison struct {
	Model, Picture image.Image
	Different      float64
}

// Compare takes pictures of two pages; that of the model may be up to a minute old.
func (t *Taker) Compare(ctx context.Context, model, address string) (Comparison, error) {
	t.taking.Lock()
	defer t.taking.Unlock()
	kept, ok := t.kept[model]
	if !ok || time.Since(kept.taken) > pictureAge {
		picture, err := t.Take(ctx, model, Upper)
		if err != nil {
			return Comparison{}, err
		}
		if t.kept == nil {
			t.kept = map[string]keptPicture{}
		}
		kept = keptPicture{picture, time.Now()}
		t.kept[model] = kept
	}
	picture, err := t.Take(ctx, address, Upper)
	if err != nil {
		return Comparison{}, err
	}
	different, _ := screens.Compare(kept.image, picture)
	return Comparison{kept.image, picture, different}, nil
}

// Save writes a picture as JPEG.
func Save(path string, picture image.Image) error {
	file, err := ownfile.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if err := jpeg.Encode(file, picture, &jpeg.Options{Quality: 82}); err != nil {
		file.Close()
		return err
	}
	return file.Close()
}

// use has the browser run until done is called, and for a while after that.
func (t *Taker) use() (browser context.Context, done func(), err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.browser == nil || t.browser.Err() != nil {
		if err := t.start(); err != nil {
			return nil, nil, err
		}
	}
	t.users++
	return t.browser, func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if t.users--; t.idle != nil {
			t.idle.Reset(browserIdle)
		}
	}, nil
}

func (t *Taker) start() error {
	path := Browser()
	if path == "" {
		return fmt.Errorf("there is no Chromium on this machine: install the package chromium")
	}
	profile := filepath.Join(t.Dir, "browser")
	if err := ownfile.Make(profile, 0o700); err != nil {
		return err
	}
	end, gone, address, err := t.launch(path, profile)
	if err != nil {
		return fmt.Errorf("start Chromium: %w", err)
	}
	allocator, endAllocator := remote.NewAllocator(context.Background(), address)
	browser, endBrowser := chromedp.NewContext(allocator)
	go func() { // nobody waits for one that has ended
		<-gone
		endAllocator()
	}()
	if err := chromedp.Do(browser); err != nil {
		endAllocator()
		end()
		return fmt.Errorf("start Chromium: %w", err)
	}
	t.browser, t.end = browser, func() { endBrowser(); endAllocator(); end(); ownfile.RemoveAll(profile) }
	t.idle = time.AfterFunc(browserIdle, func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if t.users == 0 {
			t.close()
		}
	})
	return nil
}

// launch starts Chromium in a cell of its own, for it draws what sites say: it reaches the gateway, and is reached on a port that the
// service holds for it. address is where it is told what to draw; gone is closed when it has ended.
func (t *Taker) launch(program, profile string) (end func(), gone chan struct{}, address string, err error) {
	listener, err := net.ListenTCP("tcp4", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		return nil, nil, "", err
	}
	defer listener.Close()
	held, err := listener.File()
	if err != nil {
		return nil, nil, "", err
	}
	port := listener.Addr().(*net.TCPAddr).Port
	command, err := t.Cells.Command(cell.Cell{Name: "browser", WriteFolders: []string{profile}, UnixSockets: true,
		Network: cell.OnlyPorts(t.Ports...), Listen: map[uint16]*os.File{uint16(port): held},
		Init: true, Limits: cell.Limits{Processes: 512}}, nil, program,
		append(flags, "--user-data-dir="+profile, fmt.Sprintf("--remote-debugging-port=%d", port),
			fmt.Sprintf("--window-size=%d,%d", Upper.Width, Upper.Height), "about:blank")...)
	if err != nil {
		held.Close()
		return nil, nil, "", err
	}
	temporary := profile
	if t.Cells.Abilities.Namespaces { // the cell's own: the path of a socket in it is short, however long that of the home folder is
		temporary = "/tmp"
	}
	command.Env, command.Dir = []string{"HOME=" + profile, "TMPDIR=" + temporary, "PATH=/usr/bin:/bin", "LANG=C.UTF-8"}, profile
	if err := command.Start(); err != nil {
		held.Close()
		return nil, nil, "", err
	}
	gone = make(chan struct{})
	go func() { command.Wait(); close(gone) }()
	end = func() {
		syscall.Kill(-command.Process.Pid, syscall.SIGKILL)
		<-gone
		held.Close()
	}
	return end, gone, fmt.Sprintf("ws://127.0.0.1:%d", port), nil
}

// flags are for a browser that nobody looks at, which asks nobody but the sites: its cell is the sandbox, which is narrower than its own.
var flags = []string{"--headless", "--no-sandbox", "--no-first-run", "--no-default-browser-check", "--disable-gpu",
	"--disable-dev-shm-usage", "--disable-extensions", "--disable-sync", "--disable-quic",
	"--disable-breakpad", "--disable-crash-reporter", "--disable-background-networking", "--disable-component-update",
	"--disable-default-apps", "--hide-scrollbars",
	"--disable-features=BackForwardCache", // in which pages that were left keep their memory

	"--mute-audio", "--force-color-profile=srgb", "--password-store=basic", "--metrics-recording-only",
	"--host-resolver-rules=MAP * 127.0.0.1", "--ignore-certificate-errors"} // what it reaches is the gateway

// Close ends the browser.
func (t *Taker) Close() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.close()
}

// place is one of those in which pages are looked at.
func (t *Taker) place(ctx context.Context) (release func(), err error) {
	t.mu.Lock()
	if t.places == nil {
		t.places = make(chan struct{}, LookTogether)
	}
	places := t.places
	t.mu.Unlock()
	select {
	case places <- struct{}{}:
		return func() { <-places }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// endOf ends a browser that does not answer, unless another one runs by now.
func (t *Taker) endOf(browser context.Context) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.browser == browser {
		t.close()
	}
}

func (t *Taker) close() {
	if t.end != nil {
		t.idle.Stop()
		t.end()
		t.browser, t.end, t.idle = nil, nil, nil
	}
}
