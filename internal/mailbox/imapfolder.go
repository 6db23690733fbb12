package mailbox

import (
	"bufio"
	"bytes"
	"context"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"
	mime "github.com/emersion/go-message/textproto"

	"vessik/internal/core/message"
	"vessik/internal/ownfile"
	"vessik/internal/records"
)

// allLetters are the letters of Maildir for what a message is marked with.
const allLetters = "DFRST"

var flagOf = map[rune]imap.Flag{'D': imap.FlagDraft, 'F': imap.FlagFlagged, 'R': imap.FlagAnswered,
	'S': imap.FlagSeen, 'T': imap.FlagDeleted}

func flagsOf(letters string) []imap.Flag {
	flags := []imap.Flag{}
	for _, each := range letters {
		flags = append(flags, flagOf[each])
	}
	return flags
}

// lettersOf are those of flags; what has none is not kept.
func lettersOf(flags []imap.Flag) string {
	letters := ""
	for _, letter := range allLetters {
		if slices.ContainsFunc(flags, func(f imap.Flag) bool { return strings.EqualFold(string(f), string(flagOf[letter])) }) {
			letters += string(letter)
		}
	}
	return letters
}

// opened is the folder as one mail program has seen it: a message's place is its sequence number, its id its UID.
type opened struct {
	*reader
	messages []records.Mail
	readOnly bool
}

// validity changes where another site has the name: then the UIDs are others.
func (r *reader) validity() uint32 {
	s, _ := r.mailbox.Machine.Registry.Site(r.name)
	return uint32(s.CreatedAt.Unix())
}

// next is above all UIDs so far.
func next(messages []records.Mail) imap.UID {
	if len(messages) == 0 {
		return 1
	}
	return imap.UID(messages[len(messages)-1].ID + 1)
}

// patience bounds what is asked of the records in a mail program's name.
func (r *reader) patience() (context.Context, context.CancelFunc) {
	return context.WithTimeout(r.mailbox.Machine.Work.Context(), time.Minute)
}

// list is all mail of the site, the oldest first.
func (r *reader) list() ([]records.Mail, error) {
	ctx, cancel := r.patience()
	defer cancel()
	found, err := r.mailbox.Records.Mails(ctx, records.MailsAsked{Site: r.name, Limit: 2 * most})
	slices.Reverse(found)
	return found, err
}

// update tells of what is new, what is marked otherwise and, where it may, what is gone.
func (o *opened) update(w *imapserver.UpdateWriter, allowExpunge bool) error {
	found, err := o.list()
	if err != nil {
		return err
	}
	now := map[int64]records.Mail{}
	for _, m := range found {
		now[m.ID] = m
	}
	last := int64(0)
	for i := len(o.messages) - 1; i >= 0; i-- {
		m := o.messages[i]
		last = max(last, m.ID)
		fresh, there := now[m.ID]
		switch {
		case !there && allowExpunge:
			if err := w.WriteExpunge(uint32(i + 1)); err != nil {
				return err
			}
			o.messages = slices.Delete(o.messages, i, i+1)
		case there && fresh.Flags != m.Flags:
			if err := w.WriteMessageFlags(uint32(i+1), imap.UID(m.ID), flagsOf(fresh.Flags)); err != nil {
				return err
			}
			o.messages[i] = fresh
		}
	}
	before := len(o.messages)
	for _, m := range found {
		if m.ID > last {
			o.messages = append(o.messages, m)
		}
	}
	if len(o.messages) == before {
		return nil
	}
	return w.WriteNumMessages(uint32(len(o.messages)))
}

// chosen are the places of what a set names.
func (o *opened) chosen(which imap.NumSet) []int {
	places := []int{}
	if len(o.messages) == 0 {
		return places
	}
	last := o.messages[len(o.messages)-1].ID
	for i, m := range o.messages {
		named := false
		switch set := which.(type) {
		case imap.SeqSet:
			named = slices.ContainsFunc(set, func(r imap.SeqRange) bool { return within(r.Start, r.Stop, uint32(i+1), uint32(len(o.messages))) })
		case imap.UIDSet:
			named = slices.ContainsFunc(set, func(r imap.UIDRange) bool { return within(r.Start, r.Stop, imap.UID(m.ID), imap.UID(last)) })
		}
		if named {
			places = append(places, i)
		}
	}
	return places
}

// within tells whether a number is in a range, in which 0 stands for the last there is, and the ends may have changed places.
func within[N ~uint32](start, stop, number, last N) bool {
	if start == 0 {
		start = last
	}
	if stop == 0 {
		stop = last
	}
	return min(start, stop) <= number && number <= max(start, stop)
}

func (o *opened) raw(m records.Mail) ([]byte, error) {
	return ownfile.Read(o.mailbox.folder(o.name, "new", m.File))
}

func (o *opened) fetch(w *imapserver.FetchWriter, which imap.NumSet, options *imap.FetchOptions) error {
	marks := slices.ContainsFunc(options.BodySection, func(s *imap.FetchItemBodySection) bool { return !s.Peek }) ||
		slices.ContainsFunc(options.BinarySection, func(s *imap.FetchItemBinarySection) bool { return !s.Peek })
	for _, i := range o.chosen(which) {
		if marks && !o.readOnly && !strings.Contains(o.messages[i].Flags, "S") {
			if err := o.mark(i, o.messages[i].Flags+"S"); err != nil {
				return err
			}
			options.Flags = true
		}
		if err := o.fetchOne(w.CreateMessage(uint32(i+1)), o.messages[i], options); err != nil {
			return err
		}
	}
	return nil
}

func (o *opened) fetchOne(w *imapserver.FetchResponseWriter, m records.Mail, options *imap.FetchOptions) error {
	var raw []byte
	if options.Envelope || options.BodyStructure != nil ||
		len(options.BodySection)+len(options.BinarySection)+len(options.BinarySectionSize) > 0 {
		raw, _ = o.raw(m) // one that was dropped meanwhile is empty
	}
	w.WriteUID(imap.UID(m.ID))
	if options.Flags {
		w.WriteFlags(flagsOf(m.Flags))
	}
	if options.InternalDate {
		w.WriteInternalDate(m.At)
	}
	if options.RFC822Size {
		w.WriteRFC822Size(m.Bytes)
	}
	if options.Envelope {
		header, _ := mime.ReadHeader(bufio.NewReader(bytes.NewReader(raw)))
		w.WriteEnvelope(imapserver.ExtractEnvelope(header))
	}
	if options.BodyStructure != nil {
		w.WriteBodyStructure(imapserver.ExtractBodyStructure(bytes.NewReader(raw)))
	}
	for _, section := range options.BodySection {
		part := imapserver.ExtractBodySection(bytes.NewReader(raw), section)
		if err := literal(w.WriteBodySection(section, int64(len(part))), part); err != nil {
			return err
		}
	}
	for _, section := range options.BinarySection {
		part := imapserver.ExtractBinarySection(bytes.NewReader(raw), section)
		if err := literal(w.WriteBinarySection(section, int64(len(part))), part); err != nil {
			return err
		}
	}
	for _, section := range options.BinarySectionSize {
		w.WriteBinarySectionSize(section, imapserver.ExtractBinarySectionSize(bytes.NewReader(raw), section))
	}
	return w.Close()
}

func literal(to io.WriteCloser, text []byte) error {
	_, err := to.Write(text)
	if closed := to.Close(); err == nil {
		err = closed
	}
	return err
}

func (o *opened) mark(place int, letters string) error {
	ctx, cancel := o.patience()
	defer cancel()
	letters = lettersOf(flagsOf(letters))
	if err := o.mailbox.Records.MarkMail(ctx, o.messages[place].ID, letters); err != nil {
		return err
	}
	o.messages[place].Flags = letters
	return nil
}

func (o *opened) store(w *imapserver.FetchWriter, which imap.NumSet, flags *imap.StoreFlags) error {
	if o.readOnly {
		return &imap.Error{Type: imap.StatusResponseTypeNo, Text: "The folder was opened to be read"}
	}
	asked := lettersOf(flags.Flags)
	for _, i := range o.chosen(which) {
		letters := asked
		switch flags.Op {
		case imap.StoreFlagsSet:
		case imap.StoreFlagsAdd:
			letters += o.messages[i].Flags
		case imap.StoreFlagsDel:
			letters = strings.Map(func(r rune) rune {
				if strings.ContainsRune(asked, r) {
					return -1
				}
				return r
			}, o.messages[i].Flags)
		}
		if err := o.mark(i, letters); err != nil {
			return err
		}
		if !flags.Silent {
			if err := o.fetchOne(w.CreateMessage(uint32(i+1)), o.messages[i], &imap.FetchOptions{Flags: true}); err != nil {
				return err
			}
		}
	}
	return nil
}

// expunge drops what is marked as deleted.
func (o *opened) expunge(w *imapserver.ExpungeWriter, uids *imap.UIDSet) error {
	if o.readOnly {
		return nil
	}
	ctx, cancel := o.patience()
	defer cancel()
	for i := len(o.messages) - 1; i >= 0; i-- {
		m := o.messages[i]
		if !strings.Contains(m.Flags, "T") || uids != nil && !uids.Contains(imap.UID(m.ID)) {
			continue
		}
		if err := o.mailbox.drop(ctx, m); err != nil {
			return err
		}
		o.messages = slices.Delete(o.messages, i, i+1)
		if w != nil {
			if err := w.WriteExpunge(uint32(i + 1)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (o *opened) search(kind imapserver.NumKind, criteria *imap.SearchCriteria) (*imap.SearchData, error) {
	data := &imap.SearchData{}
	numbers, uids := imap.SeqSet{}, imap.UIDSet{}
	for i := range o.messages {
		if !o.matches(i, criteria) {
			continue
		}
		numbers.AddNum(uint32(i + 1))
		uids.AddNum(imap.UID(o.messages[i].ID))
	}
	if data.All = imap.NumSet(numbers); kind == imapserver.NumKindUID {
		data.All = uids
	}
	return data, nil
}

// matches tells whether a message is one that is looked for. What it says is read where that is asked for alone.
func (o *opened) matches(place int, c *imap.SearchCriteria) bool {
	m := o.messages[place]
	for _, set := range c.SeqNum {
		if !slices.Contains(o.chosen(set), place) {
			return false
		}
	}
	for _, set := range c.UID {
		if !slices.Contains(o.chosen(set), place) {
			return false
		}
	}
	for _, letter := range lettersOf(c.Flag) {
		if !strings.ContainsRune(m.Flags, letter) {
			return false
		}
	}
	if strings.ContainsAny(m.Flags, lettersOf(c.NotFlag)) || c.Larger != 0 && m.Bytes <= c.Larger || c.Smaller != 0 && m.Bytes >= c.Smaller ||
		!between(m.At, c.Since, c.Before) || !between(m.At, c.SentSince, c.SentBefore) { // it is caught when it is sent
		return false
	}
	if len(c.Header)+len(c.Text)+len(c.Body) > 0 && !o.says(m, c) {
		return false
	}
	for i := range c.Not {
		if o.matches(place, &c.Not[i]) {
			return false
		}
	}
	for i := range c.Or {
		if !o.matches(place, &c.Or[i][0]) && !o.matches(place, &c.Or[i][1]) {
			return false
		}
	}
	return true
}

// between leaves out the hours, as RFC 3501 has it.
func between(at, since, before time.Time) bool {
	day := time.Date(at.Year(), at.Month(), at.Day(), 0, 0, 0, 0, time.UTC)
	return (since.IsZero() || !day.Before(since)) && (before.IsZero() || day.Before(before))
}

// says tells whether a message has texts in it.
func (o *opened) says(m records.Mail, c *imap.SearchCriteria) bool {
	read, err := readAs(message.Read, o.mailbox.folder(o.name, "new", m.File))
	if err != nil {
		return false
	}
	has := func(in, text string) bool { return strings.Contains(strings.ToLower(in), strings.ToLower(text)) }
	header := strings.Builder{}
	for _, field := range read.Headers {
		header.WriteString(field.Name + ": " + field.Value + "\n")
	}
	for _, each := range c.Header {
		if !slices.ContainsFunc(read.Headers, func(f message.Header) bool {
			return strings.EqualFold(f.Name, each.Key) && has(f.Value, each.Value)
		}) {
			return false
		}
	}
	body := read.Text + "\n" + read.HTML
	return !slices.ContainsFunc(c.Body, func(text string) bool { return !has(body, text) }) &&
		!slices.ContainsFunc(c.Text, func(text string) bool { return !has(header.String()+body, text) })
}
