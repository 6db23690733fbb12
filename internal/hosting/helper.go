package hosting

import (
	"bufio"
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"
	"os"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"vessik/internal/cms"
)

//go:embed helper.php
var helperText string

// Helper asks the helper that lies at a host. It asks one thing at a time.
type Helper struct {
	address, key string
	client       *http.Client
	mu           sync.Mutex
	last         int64         // number of the last request
	ahead        time.Duration // of the host's clock before ours
}

// HelperName draws a name for a helper's file, which nobody guesses, and a key for it.
func HelperName() (name, key string) {
	return "move-" + strings.ToLower(rand.Text()[:20]) + ".php", strings.ToLower(rand.Text())
}

// helperFiles are what a helper leaves at a host, by its name.
func helperFiles(name string) []string {
	return []string{name, strings.TrimSuffix(name, ".php") + ".state.php"}
}

// Lay puts a helper into an account's folder, or into the folder in it that is served, and asks whether it answers at its address.
func Lay(ctx context.Context, line Line, url, name, key string) (*Helper, error) {
	here := "__DIR__"
	if path.Dir(name) != "." {
		here = "dirname(__DIR__)"
	}
	text := strings.NewReplacer("{{key}}", key, "{{here}}", here).Replace(helperText)
	if err := line.Write(ctx, name, strings.NewReader(text)); err != nil {
		return nil, fmt.Errorf("put a helper at the host: %w", err)
	}
	h := &Helper{address: url + "/" + path.Base(name), key: key, client: client()}
	return h, h.hear(ctx)
}

// TakeAway removes a helper from an account's folder, whether or not it is there.
func TakeAway(ctx context.Context, line Line, name string) error {
	folder := path.Dir(name)
	if folder == "." {
		folder = ""
	}
	there, err := line.List(ctx, folder)
	if err != nil {
		return err
	}
	for _, each := range there {
		for _, file := range helperFiles(name) {
			if each.Path == file {
				err = errors.Join(err, line.Remove(ctx, file))
			}
		}
	}
	return err
}

// client asks hosts; it follows nobody elsewhere.
func client() *http.Client {
	return &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DialContext: dial, ResponseHeaderTimeout: idleTimeout, MaxIdleConns: 2, IdleConnTimeout: idleTimeout}}
}

// Get asks an address of a host as a visitor would, and follows where it leads on the same host.
func Get(ctx context.Context, address string) (text string, status int, err error) {
	ctx, cancel := context.WithTimeout(ctx, idleTimeout)
	defer cancel()
	response, err := Fetch(ctx, address)
	if err != nil {
		return "", 0, err
	}
	defer response.Body.Close()
	const most = 4 << 20
	body, err := io.ReadAll(io.LimitReader(response.Body, most))
	return string(body), response.StatusCode, err
}

// Ask asks an address of a host as a visitor would, and follows it nowhere. The answer's body is the caller's to read and to close.
func Ask(ctx context.Context, address string) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, "GET", address, nil)
	if err != nil {
		return nil, err
	}
	return client().Do(request)
}

// Fetch is Get for what may be long: the answer's body is the caller's to read and to close.
func Fetch(ctx context.Context, address string) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, "GET", address, nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Cache-Control", "no-cache")
	visitor := client()
	visitor.CheckRedirect = func(next *http.Request, via []*http.Request) error {
		if len(via) > 5 || next.URL.Hostname() != via[0].URL.Hostname() { // it may not send us to others, such as what this machine serves itself
			return http.ErrUseLastResponse
		}
		return nil
	}
	return visitor.Do(request)
}

// UnansweredError says that a host's address did not answer as the helper in its folder would.
type UnansweredError struct{ Why string }

func (e *UnansweredError) Error() string {
	return "the address does not answer with what lies in the account's folder: " + e.Why
}

// hear asks the time at the host.
func (h *Helper) hear(ctx context.Context) error {
	request, err := http.NewRequestWithContext(ctx, "GET", h.address, nil)
	if err != nil {
		return err
	}
	response, err := h.client.Do(request)
	if err != nil {
		return &UnansweredError{err.Error()}
	}
	defer response.Body.Close()
	if to := response.Header.Get("Location"); response.StatusCode >= 300 && response.StatusCode < 400 {
		return &UnansweredError{"it leads on to " + to + ": name that address with -url"}
	}
	text, err := io.ReadAll(io.LimitReader(response.Body, 1<<10))
	now, notNumber := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	if err != nil || response.StatusCode != http.StatusOK || notNumber != nil {
		return &UnansweredError{fmt.Sprintf("it answers %d", response.StatusCode)}
	}
	h.ahead = time.Until(time.Unix(now, 0)).Round(time.Second)
	return nil
}

// Ahead is how far the host's clock goes before ours.
func (h *Helper) Ahead() time.Duration { return h.ahead }

// RefusedError is what a helper says instead of an answer.
type RefusedError struct{ Words string }

func (e *RefusedError) Error() string { return "the host says: " + e.Words }

// asked is ask that is tried again where the line is cut. data is nil, or begins anew.
func (h *Helper) asked(ctx context.Context, do string, with map[string]any, data func() io.Writer, answer any) error {
	const tries = 4
	for try := 1; ; try++ {
		var to io.Writer
		if data != nil {
			to = data()
		}
		err := h.ask(ctx, do, with, to, answer)
		if err == nil || !Cut(err) || ctx.Err() != nil || try == tries {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(try) * 300 * time.Millisecond):
		}
	}
}

// ask has the helper do something; what it writes goes to data, its answer into answer.
func (h *Helper) ask(ctx context.Context, do string, with map[string]any, data io.Writer, answer any) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.last = max(h.last+1, time.Now().UnixMicro())
	asked := map[string]any{"n": h.last, "at": time.Now().Add(h.ahead).Unix(), "do": do}
	for key, value := range with {
		asked[key] = value
	}
	body, err := json.Marshal(asked)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, "POST", h.address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	signed := hmac.New(sha256.New, []byte(h.key))
	signed.Write(body)
	request.Header.Set("Vessik-Signature", hex.EncodeToString(signed.Sum(nil)))
	response, err := h.client.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return &UnansweredError{fmt.Sprintf("it answers %d", response.StatusCode)}
	}
	signed.Reset()
	signed.Write(body)
	return readFrames(bufio.NewReaderSize(response.Body, 1<<16), signed, data, answer)
}

// mostOfAnswer bounds the length of what a helper answers at the end, and longestFrame that of one frame, in bytes.
const (
	mostOfAnswer = 16 << 20
	longestFrame = 64 << 20
)

// readFrames reads an answer to its end. Data is passed on before the signature is known: the caller uses none of it where an error
// returns.
func readFrames(from *bufio.Reader, signed hash.Hash, data io.Writer, answer any) error {
	for {
		kind, length, err := readHead(from, signed)
		if err != nil {
			return err
		}
		if kind == 'D' {
			if data == nil {
				data = io.Discard
			}
			if _, err := io.CopyN(io.MultiWriter(signed, data), from, length); err != nil {
				return fmt.Errorf("the answer of the host broke off: %w", err)
			}
			continue
		}
		if length > mostOfAnswer {
			return errors.New("the host answers more than it was asked")
		}
		text := make([]byte, length)
		if _, err := io.ReadFull(from, text); err != nil {
			return fmt.Errorf("the answer of the host broke off: %w", err)
		}
		signed.Write(text)
		given := make([]byte, hex.EncodedLen(sha256.Size))
		if _, err := io.ReadFull(from, given); err != nil {
			return fmt.Errorf("the answer of the host broke off: %w", err)
		}
		if !hmac.Equal(given, []byte(hex.EncodeToString(signed.Sum(nil)))) {
			return errors.New("the answer of the host is not signed as it must be: something on the way changes it")
		}
		if kind == 'R' {
			return &RefusedError{string(text)}
		}
		return json.Unmarshal(text, answer)
	}
}

func readHead(from *bufio.Reader, signed hash.Hash) (kind byte, length int64, err error) {
	line, err := from.ReadSlice('\n')
	if err != nil && len(line) == 0 {
		return 0, 0, fmt.Errorf("the answer of the host broke off: %w", io.ErrUnexpectedEOF)
	}
	if err == nil && len(line) > 2 {
		kind = line[0]
		length, err = strconv.ParseInt(string(line[1:len(line)-1]), 10, 64)
	}
	if err != nil || !strings.ContainsRune("DER", rune(kind)) || length < 0 || length > longestFrame {
		return 0, 0, &UnansweredError{fmt.Sprintf("it answers %.60q", line)}
	}
	signed.Write(line)
	return kind, length, nil
}

// Configuration is how a helper finds the database of the site it lies beside.
type Configuration struct {
	File   string        `json:"file"`
	Above  bool          `json:"above"` // it may stand in the folder above
	Values []cms.Pattern `json:"values"`
}

// ConfigurationOf is that of a CMS; it has no file where the CMS has none.
func ConfigurationOf(k *cms.Definition) Configuration {
	return Configuration{File: k.Configuration.File, Above: !strings.Contains(k.Configuration.File, "/"), Values: k.Patterns()}
}

func (c Configuration) with(more map[string]any) map[string]any {
	asked := map[string]any{"file": c.File, "above": c.Above, "values": c.Values}
	for key, value := range more {
		asked[key] = value
	}
	return asked
}

// Looked is what a helper says of its host.
type Looked struct {
	PHP        string   `json:"php"`
	System     string   `json:"system"`
	Server     string   `json:"server"`
	Now        int64    `json:"now"`
	Folder     string   `json:"folder"`
	Writable   bool     `json:"writable"`
	Free       float64  `json:"free"` // bytes; below 0 where it is not told
	Case       bool     `json:"case"` // names that differ in case only are two
	Memory     string   `json:"memory"`
	Upload     string   `json:"upload"`
	Post       string   `json:"post"`
	Time       int      `json:"time"` // seconds of one request
	Extensions []string `json:"extensions"`
	Database   string   `json:"database"` // version; empty where it could not be reached, and Fault says why
	Fault      string   `json:"fault"`
	Prefix     string   `json:"prefix"`
	Text       []byte   `json:"configuration"` // of the CMS's configuration; empty where it is not there
	Bytes      float64  `json:"bytes"`         // of the database
	Tables     []string `json:"tables"`
}

// Look asks what the host is.
func (h *Helper) Look(ctx context.Context, c Configuration) (found Looked, err error) {
	err = h.asked(ctx, "look", c.with(nil), nil, &found)
	const most = 1 << 50 // bytes; what a host says is not believed to be a number that can be meant
	found.Free, found.Bytes = min(found.Free, most), min(max(found.Bytes, 0), most)
	for _, words := range []*string{&found.PHP, &found.System, &found.Server, &found.Memory, &found.Upload, &found.Post, &found.Database,
		&found.Fault, &found.Prefix} {
		*words = (*words)[:min(len(*words), 300)]
	}
	return found, err
}

// Query asks the site's database; it answers at most a thousand rows.
func (h *Helper) Query(ctx context.Context, c Configuration, statement string) (rows [][]string, err error) {
	var answer struct {
		Rows [][]string `json:"rows"`
	}
	if err := h.asked(ctx, "query", c.with(map[string]any{"statement": statement}), nil, &answer); err != nil {
		return nil, err
	}
	for _, row := range answer.Rows {
		for i := range row {
			value, err := base64.StdEncoding.DecodeString(row[i])
			if err != nil {
				return nil, err
			}
			row[i] = string(value)
		}
	}
	return answer.Rows, nil
}

// Dumping says what of a database is dumped.
type Dumping struct {
	Prefix string
	Empty  []string     // tables of which only what makes them is written
	Masks  []cms.People // what stands for what tells of people
}

// Dump writes the site's database into a file, of at most so many bytes, and tells how many there are; parts is in how many requests,
// each of which saw the database at a moment of its own.
func (h *Helper) Dump(ctx context.Context, c Configuration, what Dumping, to *os.File, most int64, tell func(bytes int64)) (parts int,
	err error) {
	masks := []map[string]any{}
	for _, each := range what.Masks {
		masks = append(masks, map[string]any{"table": each.Table, "columns": each.Columns})
	}
	at := struct {
		Table string `json:"table"`
		Row   int64  `json:"row"`
	}{}
	for {
		asked := c.with(map[string]any{"table": at.Table, "row": at.Row, "empty": append([]string{}, what.Empty...),
			"masks": masks, "prefix": what.Prefix})
		before := at
		from, err := to.Seek(0, io.SeekCurrent)
		if err != nil {
			return parts, err
		}
		if err := h.asked(ctx, "dump", asked, func() io.Writer { return &part{to: to, at: from, most: most, tell: tell} }, &at); err != nil {
			return parts, err
		}
		if err := endAt(to); err != nil {
			return parts, err
		}
		parts++
		if at.Table == "" {
			return parts, nil
		}
		if at == before || parts > 100_000 {
			return parts, errors.New("the host does not get on with its database")
		}
	}
}

// part writes a part of a file from a place on: what an attempt that was cut has written is written over.
type part struct {
	to       *os.File
	at, most int64
	tell     func(bytes int64)
}

func (p *part) Write(text []byte) (int, error) {
	if p.at+int64(len(text)) > p.most {
		return 0, errors.New("the host's database has no end: it is far longer than the host said")
	}
	if _, err := p.to.Seek(p.at, io.SeekStart); err != nil {
		return 0, err
	}
	n, err := p.to.Write(text)
	p.at += int64(n)
	p.tell(p.at)
	return n, err
}

// endAt has a file end where it was written last.
func endAt(file *os.File) error {
	at, err := file.Seek(0, io.SeekCurrent)
	if err != nil {
		return err
	}
	return file.Truncate(at)
}

// Hashes asks the SHA-256 of files, in hexadecimal digits; empty for one that cannot be read.
func (h *Helper) Hashes(ctx context.Context, names []string) (sums []string, err error) {
	const together = 500
	for len(sums) < len(names) {
		some := []string{}
		for _, name := range names[len(sums):min(len(names), len(sums)+together)] {
			some = append(some, base64.StdEncoding.EncodeToString([]byte(name)))
		}
		var answer struct {
			Sums []string `json:"sums"`
		}
		if err := h.asked(ctx, "hashes", map[string]any{"names": some}, nil, &answer); err != nil {
			return nil, err
		}
		if len(answer.Sums) == 0 || len(answer.Sums) > len(some) {
			return nil, errors.New("the host does not answer for the files it was asked of")
		}
		sums = append(sums, answer.Sums...)
	}
	return sums, nil
}

// Remove has the helper take itself away.
func (h *Helper) Remove(ctx context.Context) error {
	var answer struct {
		Gone bool `json:"gone"`
	}
	if err := h.ask(ctx, "remove_self", nil, nil, &answer); err != nil {
		return err
	}
	if !answer.Gone {
		return errors.New("the helper could not take itself away")
	}
	return nil
}
