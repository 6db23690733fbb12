package main

import (
	"context"
	"encoding/csv"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"vessik/client"
	"vessik/internal/core/wire"
)

var remarksCommand = command{name: "remarks", names: "NAME", about: "see and answer what guests remarked on a site",
	synopsis: "Lists what guests left on pages (vessik invite NAME -remarks): open ones and answered ones, with -all those that are " +
		"done, too." +
		"\n-answer ID -text TEXT answers one, which the guest sees at the same address; -done ID and -reopen ID say where one stands; " +
		"-drop ID removes it. -copy is for those on the site's standing copy.\n-csv prints them as comma-separated values (RFC 4180).",
	example: "vessik remarks orchard-days\nvessik remarks orchard-days -answer 3 -text 'The pears are in.'\nvessik remarks orchard-days " +
		"-done 3",
	run: runRemarks}

func runRemarks(ctx context.Context, c *call) error {
	answer := c.flags.Int64("answer", 0, "answer this one, by its id")
	text := c.flags.String("text", "", "what -answer says")
	done := c.flags.Int64("done", 0, "this one is done")
	reopen := c.flags.Int64("reopen", 0, "this one is open again")
	drop := c.flags.Int64("drop", 0, "remove this one")
	all := c.flags.Bool("all", false, "list those that are done, too")
	copied := c.flags.Bool("copy", false, "those on the site's standing copy (vessik standing)")
	at := c.flags.String("at", "", "the relay's host, where copies stand at several")
	asCSV := c.flags.Bool("csv", false, "print comma-separated values")
	service, err := c.connect(func() error {
		if (*answer != 0) != (*text != "") {
			return usageError{"-answer and -text go together"}
		}
		if *copied && *drop != 0 {
			return usageError{"-drop is for the site's own; those on its copy come home when it ends"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	name, reply, list := c.names[0], service.AnswerRemark, service.Remarks
	if *copied {
		reply = func(ctx context.Context, name string, id int64, asked client.ReplyTo) (client.Remark, error) {
			return service.AnswerCopyRemark(ctx, name, *at, id, asked)
		}
		list = func(ctx context.Context, name string) ([]client.Remark, error) {
			return service.CopyRemarks(ctx, name, *at)
		}
	}
	for state, id := range map[string]int64{wire.RemarkAnswered: *answer, wire.RemarkDone: *done, wire.RemarkOpen: *reopen} {
		if id == 0 {
			continue
		}
		changed, err := reply(ctx, name, id, client.ReplyTo{Text: *text, State: state})
		if err != nil || !*c.json {
			return err
		}
		return c.printJSON(changed)
	}
	if *drop != 0 {
		return service.DropRemark(ctx, name, *drop)
	}
	found, err := list(ctx, name)
	if err != nil {
		return err
	}
	if !*all {
		found = slices.DeleteFunc(found, func(r client.Remark) bool { return r.State == wire.RemarkDone })
	}
	switch {
	case *c.json:
		return c.printJSON(found)
	case *asCSV:
		return c.remarksAsCSV(found)
	}
	return c.tellRemarks(found)
}

func (c *call) remarksAsCSV(all []client.Remark) error {
	out := csv.NewWriter(c.out)
	out.Write([]string{"id", "state", "at", "who", "page", "element", "window", "browser", "text", "answers"})
	for _, r := range all {
		answers := []string{}
		for _, a := range r.Answers {
			answers = append(answers, a.Who+": "+a.Text)
		}
		out.Write([]string{strconv.FormatInt(r.ID, 10), r.State, r.At.Format("2006-01-02T15:04:05Z07:00"), plainly(r.Who), r.Page,
			plainly(r.Element),
			fmt.Sprintf("%dx%d", r.Width, r.Height), plainly(r.Browser), plainly(r.Text), plainly(strings.Join(answers, "\n"))})
	}
	out.Flush()
	return out.Error()
}

// plainly is a text that no spreadsheet takes for a formula.
func plainly(text string) string {
	if strings.HasPrefix(text, "=") || strings.HasPrefix(text, "+") || strings.HasPrefix(text, "-") || strings.HasPrefix(text, "@") {
		return "'" + text
	}
	return text
}

func (c *call) tellRemarks(all []client.Remark) error {
	if len(all) == 0 {
		fmt.Fprintln(c.out, "No remark is open. Guests leave some by: vessik invite NAME -remarks")
		return nil
	}
	for _, r := range all {
		fmt.Fprintf(c.out, "%s  %s  %s, %s, in a window of %d by %d\n", bold(c.out, "#"+strconv.FormatInt(r.ID, 10)+" "+r.State), r.Page, r.Who,
			r.At.Local().Format("01-02 15:04"), r.Width, r.Height)
		if r.Excerpt != "" {
			fmt.Fprintf(c.out, "    at “%s”\n", short(r.Excerpt, 70))
		}
		fmt.Fprintf(c.out, "    %s\n", strings.ReplaceAll(r.Text, "\n", "\n    "))
		if r.Drawn {
			fmt.Fprintln(c.out, "    (with a drawing: see it in the console)")
		}
		for _, a := range r.Answers {
			fmt.Fprintf(c.out, "    > %s: %s\n", a.Who, strings.ReplaceAll(a.Text, "\n", "\n      "))
		}
	}
	return nil
}
