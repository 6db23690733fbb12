package plan

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/check"
	"vessik/internal/core/site"
)

func TestATrialIsWrittenAsGrids(t *testing.T) {
	share := 0.123
	report := check.Of("copy", []check.Result{{ID: "front-page", Title: "Front page", Verdict: check.Fail, Observed: "500: frost",
		Remedy: "thaw it"}})
	said := []Message{{Level: "Deprecated", Text: "old ways", Where: "a.php:7", Count: 2}}
	trial := Trial{Site: "moss", Cells: []Cell{
		{Stack: site.Stack{PHP: "php-8.4", Web: "nginx-1.22", Database: "mariadb-10.11"}, Verdict: check.Fail, Summary: "failed: front-page",
			Supported: "wordpress 6.1 is known to work on PHP 5.6 to 8.2", Milliseconds: 30, Report: &report},
		{Stack: site.Stack{PHP: "php-8.2", Web: "nginx-1.22", Database: "mariadb-10.11"}, Verdict: check.Pass, Milliseconds: 21, Messages: said},
		{Stack: site.Stack{PHP: "php-8.2", Web: "nginx-1.22", Database: "mariadb-10.5"}, Verdict: check.Pass, Milliseconds: 22, Different: &share,
			Messages: said},
		{Stack: site.Stack{PHP: "php-8.4", Web: "nginx-1.22", Database: "mariadb-10.5"}, Verdict: check.Fail,
			Summary: "creating the database: refused"},
	}}
	var out strings.Builder
	require.NoError(t, WriteGrid(&out, trial))
	text := out.String()
	first, second, ok := strings.Cut(text, "\n\n")
	require.True(t, ok)
	assert.Regexp(t, `^mariadb-10\.5 +php-8\.2 +php-8\.4\n  nginx-1\.22 +pass 22 ms, 2 said, looks 12\.3% different +FAIL$`, first,
		"the older database first, PHP in order")
	assert.Regexp(t, `^mariadb-10\.11 +php-8\.2 +php-8\.4\n  nginx-1\.22 +pass 21 ms, 2 said +FAIL\* 30 ms\n`, second)
	for _, part := range []string{"php-8.4, nginx-1.22, mariadb-10.11: failed: front-page\n  Front page (front-page)\n    observed  500: " +
		"frost\n    remedy    thaw it", "creating the database: refused",
		"Deprecated: old ways\n    a.php:7 (4 times, on php-8.2)", "* not among what is known: wordpress 6.1"} {
		assert.Contains(t, text, part)
	}
	assert.Equal(t, 1, strings.Count(text, "old ways"), "each thing once")
}

func TestReportsOfAChangeAreKeptInOrder(t *testing.T) {
	part := OperationSite{}
	for _, stage := range []string{"before", "before", "after", "after", "back"} { // a report grows
		part.Add(check.SiteReport{Site: "moss", Stage: stage})
	}
	stages := []string{}
	for _, r := range append(part.Earlier, *part.Report) {
		stages = append(stages, r.Stage)
	}
	assert.Equal(t, []string{"before", "after", "back"}, stages)
	before := check.Of("moss", []check.Result{{ID: "front-page", Verdict: check.Pass}, {ID: "sign-in", Verdict: check.Fail},
		{ID: "assets", Verdict: check.Pass}})
	after := check.Of("moss", []check.Result{{ID: "front-page", Verdict: check.Fail}, {ID: "sign-in", Verdict: check.Fail},
		{ID: "assets", Verdict: check.Skip}})
	assert.Equal(t, []check.ID{"front-page"}, check.Worse(before, after), "what failed before does not count, nor what could not be asked")
	assert.Equal(t, check.Skip, after.Result("web-answers").Verdict)
}
