package rewrite

import (
	"bytes"
	"io"
	"strings"
)

// Text leads the addresses in a text that is no stored value: a page, a script, a header.
func (r *Rewriter) Text(text string) string {
	if r.still || !strings.Contains(text, r.from.host) {
		return text
	}
	return r.text(text)
}

// Hosts leads the site's host and port where they stand alone, as words of a text.
func (r *Rewriter) Hosts(text string) string {
	if r.still || !strings.Contains(text, r.from.hostPort) {
		return text
	}
	words := strings.SplitAfter(text, " ")
	for i, word := range words {
		if bare := strings.TrimRight(word, " ;,"); bare == r.from.hostPort {
			words[i] = r.to.hostPort + word[len(bare):]
		}
	}
	return strings.Join(words, "")
}

const (
	longestHeld = 64 << 10 // bytes without any that ends an address: no text that people wrote
	keptOfLong  = 1 << 10  // of which so many may begin one
)

// Stream writes a text on as it comes, with its addresses led elsewhere. An address that comes in pieces is put together.
type Stream struct {
	to   io.Writer
	by   []*Rewriter
	held []byte
}

// NewStream is one that has each rewriter lead what the one before left.
func NewStream(to io.Writer, by ...*Rewriter) *Stream { return &Stream{to: to, by: by} }

// Write implements io.Writer: what may be the beginning of an address is kept until it is known.
func (s *Stream) Write(text []byte) (int, error) {
	s.held = append(s.held, text...)
	end := bytes.LastIndexAny(s.held, "\"'<> \t\r\n()") + 1
	if end == 0 && len(s.held) > longestHeld {
		end = len(s.held) - keptOfLong
	}
	if end == 0 {
		return len(text), nil
	}
	err := s.send(end)
	return len(text), err
}

// Close writes what was kept. It does not close what is written to.
func (s *Stream) Close() error { return s.send(len(s.held)) }

func (s *Stream) send(end int) error {
	if end == 0 {
		return nil
	}
	text := string(s.held[:end])
	for _, r := range s.by {
		text = r.Text(text)
	}
	s.held = append(s.held[:0], s.held[end:]...)
	_, err := io.WriteString(s.to, text)
	return err
}
