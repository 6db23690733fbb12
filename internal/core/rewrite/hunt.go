package rewrite

import (
	"encoding/base64"
	"slices"
	"strings"
)

// finder tells quickly whether any of some texts stands in a long one. It looks at four bytes of every few: each occurrence covers one of
// the places that it looks at (the idea of Wu and Manber, A fast algorithm for multi-pattern searching, 1994).
type finder struct {
	texts []string
	least int // of their lengths
	grams [1 << 10]uint64
}

// newFinder is one for some texts; nil where there are none.
func newFinder(texts []string) *finder {
	if len(texts) == 0 {
		return nil
	}
	f := &finder{texts: texts, least: len(slices.MinFunc(texts, func(a, b string) int { return len(a) - len(b) }))}
	for _, text := range texts {
		for at := range max(f.least-3, 0) {
			hash := gram(text, at)
			f.grams[hash>>6] |= 1 << (hash & 63)
		}
	}
	return f
}

// gram is a number of 16 bits for four bytes of a text.
func gram(text string, at int) uint32 {
	return (uint32(text[at]) | uint32(text[at+1])<<8 | uint32(text[at+2])<<16 | uint32(text[at+3])<<24) * 2654435761 >> 16
}

// in tells whether any of them stands in a text.
func (f *finder) in(text string) bool {
	if f == nil {
		return false
	}
	step := f.least - 3
	if step < 1 { // one of them is too short for that
		return slices.ContainsFunc(f.texts, func(each string) bool { return strings.Contains(text, each) })
	}
	for at := 0; at+4 <= len(text); at += step {
		if hash := gram(text, at); f.grams[hash>>6]&(1<<(hash&63)) == 0 {
			continue
		}
		for back := range min(step, at+1) {
			for _, each := range f.texts {
				if strings.HasPrefix(text[at-back:], each) {
					return true
				}
			}
		}
	}
	return false
}

// hunt goes through a text from one place to the next at which any of some short texts stands.
type hunt struct {
	text    string
	needles []string
	next    []int // place of each; -1 where there is none any more
}

func newHunt(text string, needles []string) *hunt {
	h := &hunt{text: text, needles: needles, next: make([]int, len(needles))}
	for i, needle := range needles {
		h.next[i] = strings.Index(text, needle)
	}
	return h
}

// from is the next place from another on; -1 where there is none.
func (h *hunt) from(at int) int {
	nearest := -1
	for i, needle := range h.needles {
		if h.next[i] >= 0 && h.next[i] < at {
			if h.next[i] = strings.Index(h.text[at:], needle); h.next[i] >= 0 {
				h.next[i] += at
			}
		}
		if h.next[i] >= 0 && (nearest < 0 || h.next[i] < nearest) {
			nearest = h.next[i]
		}
	}
	return nearest
}

// inBase64 are the texts of which one stands in anything that is encoded in base64 (RFC 4648) and holds a text: what does not depend
// on its neighbours, for each of the three ways in which it can lie in groups of three bytes.
func inBase64(text string) (forms []string) {
	for shift := range 3 {
		encoded := base64.StdEncoding.EncodeToString([]byte(strings.Repeat("x", shift) + text))
		const telling = 12 // shorter ones come about by chance
		if begin, end := (shift*8+5)/6, (shift+len(text))*8/6; end-begin >= telling {
			forms = append(forms, encoded[begin:end])
		}
	}
	return forms
}
