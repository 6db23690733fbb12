package test

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"image/png"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	cdppage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// A guest points at what is meant, draws on a picture of the page, and sees the answer where it was left.
func TestRemarksOnAPage(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMS: "wordpress"}))
	defer s.retire(t, "orchard-days")
	relayed(t, s)
	i := invited(t, s, "orchard-days", "-open", "-remarks")

	ctx := chromium(t, 390, 844, chromedp.Flag("ignore-certificate-errors", true))
	do := steps(t, ctx)
	shadow := func(script string) chromedp.Action[chromedp.Void] { // the tree is closed to pages, and open to whoever debugs
		return chromedp.Evaluate[chromedp.Void](`(async () => {
  const root = window.remarks, press = (text) => [...root.querySelectorAll("button")].find((b) => b.textContent === text).click()
  const until = async (what) => { for (let n = 0; n < 300 && !what(); n++) await new Promise((r) => setTimeout(r, 50)); return what() }
  `+script+` })()`, chromedp.EvalAwaitPromise)
	}
	do("a spot", opened(t), chromedp.Navigate(i.Address), chromedp.WaitReady(chromedp.CSS(`vessik-remarks`)),
		chromedp.Evaluate[chromedp.Void](`void document.querySelector(".wp-block-post-title").scrollIntoView({ block: "center" })`),
		shadow(`press("Remark")
  const box = document.querySelector(".wp-block-post-title").getBoundingClientRect()
  root.querySelector(".veil").dispatchEvent(new MouseEvent("click",
    { clientX: box.left + box.width / 2, clientY: box.top + box.height / 2, bubbles: true }))
  root.querySelector("textarea").value = "Riper, please"
  root.querySelector("input").value = "Ines Halloway"
  press("Draw on a picture…")
  const canvas = await until(() => root.querySelector("canvas"))
  const stroke = (kind, x, y) => canvas.dispatchEvent(new PointerEvent(kind, { clientX: canvas.getBoundingClientRect().left + x,
    clientY: canvas.getBoundingClientRect().top + y, pointerId: 1 }))
  canvas.setPointerCapture = () => {}; canvas.hasPointerCapture = () => true
  stroke("pointerdown", 20, 20); stroke("pointermove", 120, 90)
  press("Send")
  await until(() => root.querySelector(".pin"))`))
	all, err := s.Remarks(context.Background(), "orchard-days")
	require.NoError(t, err)
	require.Len(t, all, 1)
	r := all[0]
	assert.Equal(t, []any{"/", "Riper, please", "Ines Halloway", "open", 390, 844, true}, []any{r.Page, r.Text, r.Who, r.State, r.Width,
		r.Height,
		r.Drawn})
	assert.Contains(t, r.Excerpt, "Hello world")
	assert.InDelta(t, 0.5, r.X, 0.1)
	assert.Contains(t, r.Browser, "Chrome")
	red := 0
	drawing, err := png.Decode(bytes.NewReader(drawingOf(t, s, r.ID)))
	require.NoError(t, err)
	for y := range drawing.Bounds().Dy() {
		for x := range drawing.Bounds().Dx() {
			if r, g, b, _ := drawing.At(x, y).RGBA(); r>>8 == 0xd3 && g>>8 == 0x33 && b>>8 == 0x1f {
				red++
			}
		}
	}
	assert.Greater(t, red, 100, "the stroke is on the picture")

	out, _, code := s.cli("remarks", "orchard-days")
	assert.Zero(t, code)
	assert.Contains(t, out, "Riper, please")
	_, errs, code := s.cli("remarks", "orchard-days", "-answer", fmt.Sprint(r.ID), "-text", "They are red now.")
	require.Zero(t, code, errs)
	do("the answer", chromedp.Navigate(i.Address), chromedp.WaitReady(chromedp.CSS(`vessik-remarks`)), shadow(`
  (await until(() => root.querySelector(".pin[data-state=answered]"))).click()
  if (!root.querySelector("dialog").textContent.includes("They are red now.")) throw new Error(root.querySelector("dialog").textContent)
  root.querySelector("textarea").value = "Thank you"
  press("Send")
  await until(() => root.querySelector("dialog").textContent.includes("Thank you"))`))
	out, _, _ = s.cli("remarks", "orchard-days", "-csv")
	rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, "open", rows[1][1], "who was answered says something again")
	assert.Contains(t, rows[1][9], "Thank you")

	console := page(t, s, 1280, 800)
	steps(t, console)("done", chromedp.Navigate(mustStatus(t, s).Console+"sites/orchard-days/guests"),
		chromedp.WaitVisible(chromedp.CSS(`img[alt="What Ines Halloway drew"]`)), chromedp.Click(`//button[text()="it is done"]`),
		chromedp.WaitVisible(`//button[text()="show 1 done"]`))
	assert.Empty(t, axe(t, console))
	_, errs, code = s.cli("remarks", "orchard-days", "-done", "999")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "no remark 999")
}

// opened has a page's closed shadow tree be seen by a test.
func opened(t testing.TB) chromedp.Action[chromedp.Void] {
	t.Helper()
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := cdp.Call(ctx, target, cdppage.AddScriptToEvaluateOnNewDocument, cdppage.AddScriptToEvaluateOnNewDocumentParams{
			Source: `const attach = Element.prototype.attachShadow
Element.prototype.attachShadow = function (how) { return (window.remarks = attach.call(this, how)) }`})
		return err
	})
}

func drawingOf(t testing.TB, s *service, id int64) []byte {
	t.Helper()
	_, text, answer := get(t, fmt.Sprintf("%s/api/v1/sites/orchard-days/remarks/%d/drawing.png", s.Base, id), "Authorization",
		"Bearer "+s.Token)
	assert.Equal(t, "image/png", answer.Get("Content-Type"))
	return []byte(text)
}

// What guests leave is bounded, and says nothing but what they say; nobody else has them say something.
func TestRemarksOfSomebodyHostile(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "roses", CMS: "empty"}))
	defer s.retire(t, "roses")
	relayed(t, s)
	i := invited(t, s, "roses", "-open", "-remarks", "-only", "/open/")
	by, base := guest(t, i), origin(i.Address)
	send := func(path, from, kind string, body any) (int, string) {
		text, err := json.Marshal(body)
		require.NoError(t, err)
		r, err := http.NewRequest("POST", base+"/vessik-guest/"+path, bytes.NewReader(text))
		require.NoError(t, err)
		r.Header.Set("Content-Type", kind)
		r.Header.Set("Origin", from)
		answer, err := by.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		told, _ := io.ReadAll(answer.Body)
		return answer.StatusCode, string(told)
	}
	type remark = map[string]any
	good := remark{"page": "/open/", "text": "=HYPERLINK(\"https://a.example\")", "who": "\x1b[31mInes\n", "x": 7, "width": -3}
	for _, each := range []struct {
		from, kind string
		body       remark
		want       int
	}{{"https://elsewhere.example", "application/json", good, 403}, {"", "application/json", good, 403}, {base, "text/plain", good, 403},
		{base, "application/json", remark{"page": "/secret/", "text": "a"}, 422}, {base, "application/json", remark{"page": "//a",
			"text": "a"}, 422},
		{base, "application/json", remark{"page": "/open/", "text": ""}, 422},
		{base, "application/json", remark{"page": "/open/", "text": strings.Repeat("a", 5000)}, 422},
		{base, "application/json", remark{"page": "/open/", "text": strings.Repeat("a", 2<<20)}, 422},
		{base, "application/json", remark{"page": "/open/", "text": "a", "drawing": base64.StdEncoding.EncodeToString([]byte("GIF89a"))}, 422},
		{base, "application/json", good, 200}} {
		status, told := send("remarks", each.from, each.kind, each.body)
		assert.Equal(t, each.want, status, "%.100v %s", each.body, told)
	}
	status, _ := send("picture", base, "application/json", remark{"page": "/secret/", "width": 400, "height": 400})
	assert.Equal(t, 422, status, "no picture of what the invitation is not for")
	status, text, _ := getBy(t, by, base+"/vessik-guest/remarks?page=/secret/")
	assert.Equal(t, 422, status, text)
	out, _, _ := s.cli("remarks", "roses", "-csv")
	assert.Contains(t, out, `"'=HYPERLINK(`, "no spreadsheet takes it for a formula")
	assert.NotContains(t, out, "\x1b")
	require.Eventually(t, func() bool {
		status, _ := send("remarks", base, "application/json", good)
		return status == 429
	}, 10*time.Second, time.Millisecond, "nobody fills the disk")

	plain := invited(t, s, "roses", "-open")
	status, _, _ = getBy(t, guest(t, plain), origin(plain.Address)+"/vessik-guest/remarks?page=/")
	assert.Equal(t, 404, status, "an invitation without remarks has none")
}
