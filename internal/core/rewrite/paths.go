package rewrite

import "strings"

// folders leads from one absolute path to another, however the slashes are written.
type folders struct{ from, to []string }

// separators are the ways in which a path's slashes are written; backslashes may stand before a plain one.
var separators = []string{"/", `\/`, `\\/`, "%2F", "%2f", "%252F", "%252f"}

// Folders has paths below a folder lead below another one as well.
func (r *Rewriter) Folders(from, to string) {
	old, next := strings.Split(strings.Trim(from, "/"), "/"), strings.Split(strings.Trim(to, "/"), "/")
	if from == to || len(old) < 2 || next[0] == "" {
		return
	}
	r.folders = &folders{old, next}
	last := old[len(old)-1]
	r.further = append(r.further, last)
	texts := []string{}
	for _, separator := range separators {
		texts = append(texts, old[len(old)-2]+separator+last)
	}
	r.extra = newFinder(append(texts, r.encoded...))
}

// last is the name of the folder.
func (f *folders) last() string { return f.from[len(f.from)-1] }

// occurrence judges one place where the folder's name stands: where the path begins, and how its slashes are written.
func (r *Rewriter) pathAt(text string, at int) (begin int, separator string, ok bool) {
	f := r.folders
	if rest := text[at+len(f.last()):]; rest != "" && isName(rest[0]) && (rest[0] != '.' || len(rest) > 1 && isName(rest[1])) {
		return 0, "", false
	}
	begin = at
	for i := len(f.from) - 1; i >= 0; i-- {
		length := slashBefore(text[:begin])
		if length == 0 {
			return 0, "", false
		}
		separator = text[begin-length : begin]
		if begin -= length; i > 0 {
			if !strings.HasSuffix(text[:begin], f.from[i-1]) {
				return 0, "", false
			}
			begin -= len(f.from[i-1])
		}
	}
	if before := text[:begin]; before != "" && isName(before[len(before)-1]) && !(r.escaped && isEscape(before)) {
		return 0, "", false
	}
	return begin, separator, true
}

// slashBefore is the length of one slash at the end of a text, however it is written.
func slashBefore(text string) int {
	for _, encoded := range separators[3:] {
		if strings.HasSuffix(text, encoded) {
			return len(encoded)
		}
	}
	if !strings.HasSuffix(text, "/") {
		return 0
	}
	begin := len(text) - 1
	for begin > 0 && text[begin-1] == '\\' {
		begin--
	}
	return len(text) - begin
}

// moved has the paths in a text lead to the new folder.
func (r *Rewriter) moved(text string) (after string, paths int) {
	if r.folders == nil || !r.others {
		return text, 0
	}
	var out strings.Builder
	done, search, last := 0, 0, r.folders.last()
	for {
		at := strings.Index(text[search:], last)
		if at < 0 {
			break
		}
		at += search
		search = at + len(last)
		begin, separator, ok := r.pathAt(text, at)
		if !ok {
			continue
		}
		out.WriteString(text[done:begin])
		for _, element := range r.folders.to {
			out.WriteString(separator)
			out.WriteString(element)
		}
		done = search
		paths++
	}
	if paths == 0 {
		return text, 0
	}
	out.WriteString(text[done:])
	return out.String(), paths
}
