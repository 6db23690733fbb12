package walk

import (
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func pageOf(path, title string, findings ...PageFinding) WalkedPage {
	return WalkedPage{Path: path, Status: 200, Title: title, Findings: findings}
}

func TestWalksAreCompared(t *testing.T) {
	broken := PageFinding{BrokenURL, "<a href> /x", "answers 404"}
	before := Walked{URL: "http://a.localhost:8080/", Pages: []WalkedPage{pageOf("/", "Front", broken),
		pageOf("/beds/", "Beds", PageFinding{Slow, "", "took 3000 ms"}), pageOf("/old/", "Old"),
		pageOf("/same/", "Same", PageFinding{SameTitle, "<title> Same", "is that of /a/"},
			PageFinding{BrokenRes, "<img src> http://a.localhost:8080/fern.png", "answers 404"})}}
	now := Walked{URL: "http://b.localhost:9090/", Pages: []WalkedPage{pageOf("/", "Front page"),
		pageOf("/beds/", "Beds", PageFinding{PHP, "public/beds.php:3", "warning: Undefined variable $x"}), pageOf("/new/", "New"),
		pageOf("/same/", "Same", PageFinding{SameTitle, "<title> Same", "is that of /a/ and 2 more"},
			PageFinding{BrokenRes, "<img src> http://b.localhost:9090/fern.png", "answers 404"})}}
	assert.Equal(t, []Difference{{"/beds/", Found, "php public/beds.php:3 warning: Undefined variable $x"},
		{"/old/", Gone, "was reached, and is not any more"}, {"/", Retitle, `"Front page", was "Front"`}, {"/new/", New, "answers 200"},
		{"/", Mended, "broken-link <a href> /x answers 404"}, {"/beds/", Quicker, "took 3000 ms"}}, Compare(before, now, false))
	assert.Empty(t, Compare(now, now, false))
	assert.Len(t, Compared{Differences: Compare(before, now, false)}.Worse(), 2)
	before.Pages, now.Pages = []WalkedPage{pageOf("/", "Front")}, []WalkedPage{pageOf("/", "Front", PageFinding{Wide, "<div>", "reaches"})}
	now.Pages[0].Looked = true
	assert.Empty(t, Compare(before, now, false), "no browser looked before")
	before.Pages[0].Looked = true
	assert.Len(t, Compare(before, now, false), 1)
	before.Pages = append(before.Pages, pageOf("/old/", "Old"))
	now.Cut = true
	for _, d := range Compare(before, now, false) {
		assert.NotEqual(t, Gone, d.Change, "it was not walked to the end")
	}
}

// Of an address elsewhere no more is known than status and title.
func TestAWalkIsComparedWithAnAddressElsewhere(t *testing.T) {
	there := Walked{URL: "https://www.example.org/shop/", At: time.Now(), Pages: []WalkedPage{pageOf("/shop/", "Front"),
		{Path: "/shop/beds/", Status: 404}}}
	here := Walked{URL: "http://a.localhost/", Pages: []WalkedPage{pageOf("/", "Front", PageFinding{BrokenURL, "<a href> /x", "answers 404"}),
		pageOf("/beds/", "Beds"), {Path: "/fern/", Status: 500, Findings: []PageFinding{{Fails, "", "answers 500"}}}}}
	assert.Equal(t, []Difference{{"/fern/", Found, "fails answers 500"}, {"/beds/", Retitle, `"Beds", was ""`},
		{"/fern/", New, "answers 500"}, {"/beds/", Mended, "fails answers 404"}}, Compare(there, here, true))
}

func TestWhatABrowserSawIsJudged(t *testing.T) {
	own := read(t, "/", `<title>x</title><img src="/gone.png">`)
	ours := func(u *url.URL) bool { return u.Host == "moss.localhost" }
	judged := Site{Own: ours, Slow: 100, Answers: map[string]Answer{"/": {Path: "/", Status: 200, Page: true, HTML: true,
		Document: own, Milliseconds: 200}, "/gone.png": {Path: "/gone.png", Status: 404}},
		Looks: map[string]Look{"/": {ScriptErrors: []Seen{{"/x.js:3", "TypeError: no"}}, Wide: []Seen{{"<div>", "reaches"}},
			Failed: []Seen{{"https://moss.localhost/gone.png", "answers 404"}, {"https://moss.localhost/asked.json", "answers 500"},
				{"https://elsewhere.example/x.js", "answers 404"}}, Pictures: []string{"1-1280.jpg"}}},
		Costs: map[string]Cost{"/": {Milliseconds: 150, Statements: 3, Rows: 9, Database: 120, Longest: "SELECT 1", LongestTook: 100,
			Machines: []Machine{{Host: "api.example", Port: 443, Count: 2, Refused: 2}}}}}.Judge()
	assert.Equal(t, []PageFinding{{ScriptError, "/x.js:3", "TypeError: no"}, {BrokenRes, "<img src> /gone.png", "answers 404"},
		{RequestFails, "/asked.json", "answers 500"},
		{Slow, "", "took 200 ms; again, 150 ms, and asked the database 3 statements in 120 ms, which read 9 rows; " +
			"for 100 ms or longer: SELECT 1; api.example:443 2 times, 0 ms each, 2 refused"},
		{Wide, "<div>", "reaches"}}, judged[0].Findings, "what its own text names is told once, other machines' not at all")
	assert.Equal(t, []string{"1-1280.jpg"}, judged[0].Pictures)
	quick := Site{Own: ours, Slow: 100, Answers: map[string]Answer{"/": {Path: "/", Status: 200, Page: true, HTML: true,
		Document: read(t, "/", "<title>x</title>"), Milliseconds: 200}}, Costs: map[string]Cost{"/": {Milliseconds: 40}}}.Judge()
	assert.Empty(t, quick[0].Findings, "it only waited for others")
}
