package verify

import (
	"crypto/rand"
	"fmt"
	"slices"
	"strings"
	"time"

	"vessik/internal/core/check"
	"vessik/internal/mailbox"
)

// arriveWithin is what a message that was sent has to arrive in.
const (
	arriveWithin = 3 * time.Second
	arriveLook   = 5 * time.Millisecond
)

// noConnections is what the probe says of a PHP whose site took the function away.
const noConnections = "its PHP opens no connections"

// mailCaught has the site send two messages, and proves that both arrive here, and that a foreign mail server is ours.
func (i *inspection) mailCaught() outcome {
	const expected = "mail by sendmail and by SMTP to a foreign server arrives in the mailbox, and nowhere else"
	if i.probed != nil {
		return failed(expected, "the site does not answer: "+i.probed.Error(), "see the check "+webAnswers)
	}
	abilities := i.v.Machine.Supervisor.Abilities()
	subject := "Vessik check " + rand.Text()
	ways, done := i.v.Mail.Await(subject)
	defer done()
	answer, _, err := i.askProbe(i.ownPort(), probeAsk{Mail: subject})
	if err != nil {
		return failed(expected, err.Error(), "see the check "+webAnswers)
	}
	arrived := i.arrive(ways, len(answer.Mailed))
	governed := abilities.Namespaces && abilities.Governor
	switch {
	case len(arrived) < len(answer.Mailed):
		return failed(expected, fmt.Sprintf("sent by %s, arrived by %s", strings.Join(answer.Mailed, " and "), orNone(arrived)),
			"restart the service, and see logs/service.log in its home folder")
	case !governed:
		return outcome{verdict: check.Skip, expected: expected, observed: "by " + orNone(arrived) + "; this machine gives sites no cells, " +
			"so SMTP is not led here (see vessik status)"}
	case answer.MailServer == noConnections:
		return passed(expected, "by "+orNone(arrived)+"; "+noConnections)
	case !slices.Contains(arrived, mailbox.BySMTP):
		return failed(expected, "192.0.2.25, port 25, answers as "+orNone([]string{answer.MailServer}), "restart the service; if that does not "+
			"help, see vessik status")
	}
	return passed(expected, "both ways arrive: "+strings.Join(arrived, ", "))
}

// arrive waits for messages, and returns the ways by which they came.
func (i *inspection) arrive(ways <-chan string, count int) (arrived []string) {
	look, end := time.NewTicker(arriveLook), time.After(arriveWithin)
	defer look.Stop()
	for len(arrived) < count {
		select {
		case way := <-ways:
			arrived = append(arrived, way)
		case <-look.C:
			i.v.Mail.Look(i.site.Name)
		case <-end:
			return arrived
		case <-i.ctx.Done():
			return arrived
		}
	}
	slices.Sort(arrived)
	return arrived
}

func orNone(words []string) string {
	if text := strings.Join(words, " and "); text != "" {
		return text
	}
	return "nothing"
}
