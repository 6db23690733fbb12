package check

import (
	"encoding/xml"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func result(id ID, verdict Verdict) Result {
	return Result{ID: id, Title: string(id), Verdict: verdict, Expected: "200", Observed: "it said <500>", Remedy: "mend it", Milliseconds: 12}
}

func TestReportsSumUp(t *testing.T) {
	good := Of("a", []Result{result("web-answers", Pass), result("files-private", Pass)})
	assert.True(t, *good.Passed)
	assert.Equal(t, "2 of 2 passed", good.Summary())
	partly := Of("a", []Result{result("sign-in", Skip), result("web-answers", Pass)})
	assert.True(t, *partly.Passed)
	assert.Equal(t, "1 passed, 1 skipped", partly.Summary())
	bad := Of("b", []Result{result("sign-in", Fail), result("web-answers", Pass)})
	assert.False(t, *bad.Passed)
	assert.Equal(t, "failed: sign-in", bad.Summary())
	asleep := Skipped("c", "the site is stopped", []Definition{{ID: "web-answers"}, {ID: "sign-in"}})
	assert.Nil(t, asleep.Passed)
	assert.Len(t, asleep.Checks, 2)
	assert.Equal(t, "not checked", asleep.Summary())
	assert.True(t, Together([]SiteReport{good, asleep}).Passed, "a stopped site fails nothing")
	assert.False(t, Together([]SiteReport{good, bad}).Passed)
	many := Of("d", []Result{result("web-answers", Fail), result("sign-in", Fail), result("assets", Fail), result("front-page", Fail)})
	assert.Equal(t, "failed: web-answers and 3 more", many.Summary())
}

func TestFormats(t *testing.T) {
	report := Together([]SiteReport{Of("b", []Result{result("web-answers", Pass), result("assets", Skip), result("sign-in", Fail)})})
	var table, junit strings.Builder
	require.NoError(t, WriteTable(&table, report, Unmarked))
	assert.Contains(t, table.String(), "remedy    mend it")
	require.NoError(t, WriteJUnit(&junit, report))
	var parsed struct {
		Suites []struct {
			Name     string `xml:"name,attr"`
			Tests    int    `xml:"tests,attr"`
			Failures int    `xml:"failures,attr"`
			Skipped  int    `xml:"skipped,attr"`
			Cases    []struct {
				Failure *struct {
					Message string `xml:"message,attr"`
				} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal([]byte(junit.String()), &parsed))
	require.Len(t, parsed.Suites, 1)
	suite := parsed.Suites[0]
	assert.Equal(t, []int{3, 1, 1}, []int{suite.Tests, suite.Failures, suite.Skipped})
	assert.Equal(t, "it said <500>", suite.Cases[2].Failure.Message)
}
