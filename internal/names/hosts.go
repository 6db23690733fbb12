// Package names has this machine find domains that do not end in .localhost: by a marked block in its hosts file (hosts(5)), and by a
// small DNS responder (RFC 1035) that a resolver can be pointed to.
package names

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"strings"
	"time"
)

// HostsFile is the machine's own.
const HostsFile = "/etc/hosts"

const (
	first = "# Vessik begins; its service writes this block and takes it back"
	last  = "# Vessik ends"
)

// Block is the marked block for some domains; empty for none.
func Block(domains []string) string {
	if len(domains) == 0 {
		return ""
	}
	domains = slices.Sorted(slices.Values(domains))
	text := first + "\n"
	for _, domain := range domains {
		text += "127.0.0.1 " + domain + "\n::1 " + domain + "\n"
	}
	return text + last + "\n"
}

// ErrTorn says that the block in a hosts file has no end.
var ErrTorn = errors.New("the block of Vessik in it has a first line and no last one: mend that by hand")

// cut is the text before the block, the block, and the text after it.
func cut(text []byte) (before, block, after []byte, err error) {
	from := bytes.Index(text, []byte(first))
	if from < 0 {
		return text, nil, nil, nil
	}
	end := bytes.Index(text[from:], []byte(last))
	if end < 0 {
		return nil, nil, nil, ErrTorn
	}
	to := from + end + len(last)
	if to < len(text) && text[to] == '\n' {
		to++
	}
	return text[:from], text[from:to], text[to:], nil
}

// Current is the block that a hosts file has.
func Current(file string) (string, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	_, block, _, err := cut(text)
	return string(block), err
}

// Write puts a block into a hosts file that is open for reading and writing, in the place of the one that is there, and reads it again.
// Not a line outside the block is touched: what stands before it is not even written. The file is changed where it is, since an
// unprivileged service that was handed it open may do no more.
func Write(file *os.File, block string) error {
	text, err := io.ReadAll(io.NewSectionReader(file, 0, 1<<24))
	if err != nil {
		return err
	}
	before, old, after, err := cut(text)
	if err != nil {
		return fmt.Errorf("%s: %w", file.Name(), err)
	}
	if string(old) == block {
		return nil
	}
	tail := block + string(after)
	if len(old) == 0 && len(before) > 0 && before[len(before)-1] != '\n' {
		tail = "\n" + tail
	}
	if len(tail) > 0 {
		if _, err := file.WriteAt([]byte(tail), int64(len(before))); err != nil {
			return err
		}
	}
	if err := file.Truncate(int64(len(before) + len(tail))); err != nil {
		return err
	}
	written, err := io.ReadAll(io.NewSectionReader(file, 0, 1<<24))
	if err == nil && string(written) != string(before)+tail {
		err = fmt.Errorf("%s does not hold what was written into it; somebody else wrote at the same moment: look at it", file.Name())
	}
	return err
}

// mostLookup bounds how long a name server is waited for: one that does not answer must keep nobody from working.
const mostLookup = 2 * time.Second

// Finds tells whether a name leads to this machine, by a hosts file or by the machine's own resolver.
func Finds(file, domain string) bool {
	text, _ := os.ReadFile(file)
	for line := range strings.Lines(string(text)) {
		line, _, _ = strings.Cut(line, "#")
		if fields := strings.Fields(line); len(fields) > 1 && slices.Contains(fields[1:], domain) {
			ip := net.ParseIP(fields[0])
			return ip != nil && ip.IsLoopback()
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), mostLookup)
	defer cancel()
	addresses, err := net.DefaultResolver.LookupHost(ctx, domain)
	return err == nil && len(addresses) > 0 && !slices.ContainsFunc(addresses, func(address string) bool {
		ip := net.ParseIP(address)
		return ip == nil || !ip.IsLoopback()
	})
}
