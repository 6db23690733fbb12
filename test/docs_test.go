package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var shellBlock = regexp.MustCompile("(?ms)^```sh\n(.*?)^```")

// What the documents show is what they say: their blocks are run, in order, by a shell, against a service of their own.
func TestTheDocumentsCommandsWork(t *testing.T) {
	t.Parallel()
	for _, page := range []string{"addresses", "stacks", "stencils", "content", "moving", "teams", "mail", "outgoing", "database", "walk",
		"guests"} {
		t.Run(page, func(t *testing.T) {
			text, err := os.ReadFile("../docs/" + page + ".md")
			require.NoError(t, err)
			s := start(t, newHome(t))
			folder := filepath.Join(filepath.Dir(s.home), "reader")
			require.NoError(t, os.MkdirAll(folder, 0o755))
			blocks := shellBlock.FindAllStringSubmatch(string(text), -1)
			require.NotEmpty(t, blocks)
			for _, block := range blocks {
				command := exec.Command("bash", "-ec", block[1])
				command.Dir = folder
				command.Env = append(os.Environ(), "VESSIK_HOME="+s.home, "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
				out, err := command.CombinedOutput()
				require.NoError(t, err, "%s\n%s", block[1], out)
			}
		})
	}
}

var (
	shownCommand = regexp.MustCompile("(?:^|`|bin/)vessik ([a-z-]+)([^`\n#]*)")
	quotedWords  = regexp.MustCompile(`"[^"]*"`)
	shownFlag    = regexp.MustCompile(` -([a-z][a-z-]*)`)
)

// Every command and flag that a document or an example names is there.
func TestTheDocumentsNameWhatThereIs(t *testing.T) {
	pages, err := filepath.Glob("../docs/*.md")
	require.NoError(t, err)
	help, texts := map[string]string{}, map[string]string{}
	for _, page := range append(pages, "../README.md") {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		texts[page] = string(text)
	}
	overview, _, _ := run(t, "-h")
	for _, found := range regexp.MustCompile(`(?m)^  ([a-z-]+) `).FindAllStringSubmatch(overview, -1) {
		texts["help of "+found[1]], _, _ = run(t, found[1], "-h") // with its examples
	}
	require.Greater(t, len(texts), 40)
	for page, text := range texts {
		for line := range strings.Lines(text) {
			for _, found := range shownCommand.FindAllStringSubmatch(strings.TrimSpace(line), -1) {
				name, rest := found[1], quotedWords.ReplaceAllString(found[2], "")
				if help[name] == "" {
					out, errs, code := run(t, name, "-h")
					require.Zero(t, code, "%s: there is no command %q: %s", page, name, errs)
					help[name] = out + errs
				}
				if name == "run" { // what follows are the flags of others
					continue
				}
				for _, flag := range shownFlag.FindAllStringSubmatch(rest, -1) {
					assert.Regexp(t, `(?m)^  -`+flag[1]+`\b`, help[name], "%s: %s", page, strings.TrimSpace(line))
				}
			}
		}
	}
}
