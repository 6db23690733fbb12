// Package message reads messages as they are sent (RFC 5322, MIME), and says what a mail program would complain about.
package message

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/mail"
	"strings"
	"time"

	"github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset" // the usual character sets
	"golang.org/x/net/html"
)

// Content is what somebody sees of one.
type Content struct {
	From    string    `json:"from"`
	To      []string  `json:"to" nullable:"false"`
	Subject string    `json:"subject"`
	Date    time.Time `json:"date,omitzero" doc:"As it says itself"`
	Headers []Header  `json:"headers" nullable:"false"`
	Text    string    `json:"text"`
	HTML    string    `json:"html"`
	// Attachments are all parts that are neither its text nor its HTML.
	Attachments []Attachment `json:"attachments" nullable:"false"`
	Remarks     []string     `json:"remarks" nullable:"false" doc:"What a mail program would complain about"`
}

// Header is one line of a message's head, decoded.
type Header struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Attachment is a part that is saved, or shown in the HTML by its content id.
type Attachment struct {
	Name  string `json:"name"`
	Type  string `json:"type"`
	Bytes int    `json:"bytes"`
	ID    string `json:"id,omitempty" doc:"Content id, by which the HTML names it"`

	Content []byte `json:"-"`
}

const (
	partsMost = 200      // of one message
	depthMost = 20       // parts in parts
	bytesMost = 64 << 20 // of all parts, decoded
)

// Head reads what a message is listed by, and no more of it.
func Head(raw io.Reader) (Content, error) {
	m := Content{}
	entity, err := message.Read(raw)
	if entity == nil || err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
		return m, fmt.Errorf("it is no message: %w", err)
	}
	m.head(entity.Header)
	return m, nil
}

// Read reads a message. What cannot be understood is left out and remarked upon; the error is that of a text which is no message at all.
func Read(raw io.Reader) (Content, error) {
	m := Content{To: []string{}, Headers: []Header{}, Attachments: []Attachment{}, Remarks: []string{}}
	entity, err := message.Read(raw)
	if entity == nil || err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
		return m, fmt.Errorf("it is no message: %w", err)
	}
	m.head(entity.Header)
	left := bytesMost
	parts := 0
	if err := m.part(entity, 0, &parts, &left); err != nil {
		m.remark("a part of it cannot be read: " + err.Error())
	}
	m.judge(entity.Header)
	return m, nil
}

func (m *Content) remark(text string) { m.Remarks = append(m.Remarks, text) }

func (m *Content) head(header message.Header) {
	for fields := header.Fields(); fields.Next(); {
		value, err := fields.Text()
		if err != nil {
			value = fields.Value()
		}
		m.Headers = append(m.Headers, Header{fields.Key(), value})
	}
	m.Subject, _ = header.Text("Subject")
	m.From = strings.Join(addresses(header, "From"), ", ")
	for _, name := range []string{"To", "Cc", "Bcc"} {
		m.To = append(m.To, addresses(header, name)...)
	}
	m.Date, _ = mail.ParseDate(header.Get("Date"))
}

// addresses are those of a field as people read them; the field itself where they cannot be told apart.
func addresses(header message.Header, name string) []string {
	raw := header.Get(name)
	if raw == "" {
		return nil
	}
	parser := mail.AddressParser{WordDecoder: &mime.WordDecoder{CharsetReader: message.CharsetReader}}
	found, err := parser.ParseList(raw)
	if err != nil {
		return []string{raw}
	}
	written := []string{}
	for _, each := range found {
		if each.Name == "" {
			written = append(written, each.Address)
		} else {
			written = append(written, fmt.Sprintf("%s <%s>", each.Name, each.Address))
		}
	}
	return written
}

// shownMost is how much all images together may add to the page, as often as it names each, in bytes.
const shownMost = 16 << 20

// Page is the HTML with the images that the message brings, so that nothing has to be asked of anybody to see it.
func (m Content) Page() string {
	pairs, left := []string{}, shownMost
	for _, each := range m.Attachments {
		if each.ID == "" || !strings.HasPrefix(each.Type, "image/") {
			continue
		}
		shown := strings.Count(m.HTML, "cid:"+each.ID) * base64.StdEncoding.EncodedLen(each.Bytes)
		if shown == 0 || shown > left {
			continue
		}
		left -= shown
		pairs = append(pairs, "cid:"+each.ID, "data:"+each.Type+";base64,"+base64.StdEncoding.EncodeToString(each.Content))
	}
	return strings.NewReplacer(pairs...).Replace(m.HTML)
}

var errTooMuch = errors.New("it has more parts than are looked at")

func (m *Content) part(entity *message.Entity, depth int, parts, left *int) error {
	if *parts++; *parts > partsMost || depth > depthMost {
		return errTooMuch
	}
	if inside := entity.MultipartReader(); inside != nil {
		for {
			next, err := inside.NextPart()
			if errors.Is(err, io.EOF) {
				return nil
			}
			if next == nil || err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
				return err
			}
			if err := m.part(next, depth+1, parts, left); err != nil {
				return err
			}
		}
	}
	content, err := io.ReadAll(io.LimitReader(entity.Body, int64(*left)))
	*left -= len(content)
	kind, parameters, _ := entity.Header.ContentType()
	disposition, named, _ := entity.Header.ContentDisposition()
	name := named["filename"]
	if name == "" {
		name = parameters["name"]
	}
	name, _ = (&mime.WordDecoder{CharsetReader: message.CharsetReader}).DecodeHeader(name)
	id := strings.Trim(entity.Header.Get("Content-Id"), "<>")
	switch plain := disposition != "attachment" && name == "" && id == ""; {
	case plain && kind == "text/plain" && m.Text == "":
		m.Text = string(content)
	case kind == "text/html" && disposition != "attachment" && m.HTML == "":
		m.HTML = string(content)
	default:
		m.Attachments = append(m.Attachments, Attachment{Name: name, Type: kind, Bytes: len(content), ID: id, Content: content})
	}
	return err
}

// judge says what a mail program would complain about.
func (m *Content) judge(header message.Header) {
	for _, name := range []string{"From", "Date", "Message-Id"} {
		if header.Get(name) == "" {
			m.remark("it has no " + name)
		}
	}
	if header.Get("Date") != "" && m.Date.IsZero() {
		m.remark("its Date cannot be read: " + header.Get("Date"))
	}
	if m.Subject == "" {
		m.remark("it has no subject")
	}
	if m.HTML != "" && strings.TrimSpace(m.Text) == "" {
		m.remark("it has no plain text beside its HTML")
	}
	if from, err := mail.ParseAddress(header.Get("From")); err == nil {
		if _, host, _ := strings.Cut(from.Address, "@"); IsLocal(host) {
			m.remark("its sender's host, " + host + ", is known on this machine alone: others would refuse it")
		}
	}
	seen := map[string]bool{}
	for _, link := range append(linksIn(m.HTML), wordsWithLinks(m.Text)...) {
		if host := hostOf(link); IsLocal(host) && !seen[host] {
			seen[host] = true
			m.remark("it links to " + host + ", which leads nowhere on another machine")
		}
	}
}

// IsLocal tells whether a host is known on this machine alone.
func IsLocal(host string) bool {
	host = strings.ToLower(host)
	return host == "localhost" || strings.HasPrefix(host, "127.") ||
		strings.HasSuffix(host, ".localhost") || strings.HasSuffix(host, ".test") || strings.HasSuffix(host, ".internal")
}

func hostOf(link string) string {
	_, rest, found := strings.Cut(link, "://")
	if !found {
		return ""
	}
	if end := strings.IndexAny(rest, "/?#:"); end >= 0 {
		rest = rest[:end]
	}
	return rest
}

// linksIn are the addresses that a page leads to or loads.
func linksIn(page string) (links []string) {
	tokens := html.NewTokenizer(strings.NewReader(page))
	for {
		switch tokens.Next() {
		case html.ErrorToken:
			return links
		case html.StartTagToken, html.SelfClosingTagToken:
			for _, each := range tokens.Token().Attr {
				if each.Key == "href" || each.Key == "src" {
					links = append(links, each.Val)
				}
			}
		default:
		}
	}
}

func wordsWithLinks(text string) (links []string) {
	for word := range strings.FieldsSeq(text) {
		if i := strings.Index(word, "http"); i >= 0 {
			links = append(links, word[i:])
		}
	}
	return links
}
