package guest

import (
	"crypto/rand"
	"net/http"
	"slices"
	"strings"
)

const policyField = "Content-Security-Policy"

// admit has a page's content security policies (CSP level 3) let our script run, and ask its own host. It is of that host, so that is all
// that is added; only where a policy trusts what it names by a nonce alone does the script get one.
func admit(head http.Header, script string) string {
	policies := head.Values(policyField)
	if len(policies) == 0 {
		return script
	}
	nonce := rand.Text()
	for i, policy := range policies {
		if head[policyField][i] = admitIn(policy, nonce); strings.Contains(head[policyField][i], nonce) {
			script = strings.Replace(script, "<script ", `<script nonce="`+nonce+`" `, 1)
		}
	}
	return script
}

// admitIn is one policy that admits the script.
func admitIn(policy, nonce string) string {
	directives := [][]string{}
	for each := range strings.SplitSeq(policy, ";") {
		if words := strings.Fields(each); len(words) > 0 {
			directives = append(directives, words)
		}
	}
	directives = letting(directives, []string{"script-src-elem", "script-src", "default-src"}, func(words []string) string {
		if slices.Contains(words, "'strict-dynamic'") {
			return "'nonce-" + nonce + "'"
		}
		return "'self'"
	})
	directives = letting(directives, []string{"connect-src", "default-src"}, func([]string) string { return "'self'" })
	texts := []string{}
	for _, words := range directives {
		texts = append(texts, strings.Join(words, " "))
	}
	return strings.Join(texts, "; ")
}

// letting adds a source to the first directive that there is of some, of which the last is the one that holds for all kinds: in its place
// the kind gets a directive of its own.
func letting(directives [][]string, names []string, source func(words []string) string) [][]string {
	for n, name := range names {
		i := slices.IndexFunc(directives, func(words []string) bool { return strings.EqualFold(words[0], name) })
		if i < 0 {
			continue
		}
		words := slices.DeleteFunc(slices.Clone(directives[i]), func(word string) bool { return strings.EqualFold(word, "'none'") })
		if added := source(words); !slices.Contains(words, added) {
			words = append(words, added)
		}
		if n == len(names)-1 {
			words[0] = names[n-1]
			return append(directives, words)
		}
		directives[i] = words
		return directives
	}
	return directives
}
