package verify

import (
	"cmp"
	"regexp"
)

func (i *inspection) version(what, id, observed string) outcome {
	e, err := i.v.Machine.Store.Find(id)
	if err != nil {
		return failed(id, err.Error(), "fetch it again: vessik start "+i.site.Name)
	}
	expected := e.Version
	switch {
	case i.probed != nil:
		return failed(expected, "the site does not answer: "+i.probed.Error(), "see the check "+webAnswers)
	case observed == "":
		return failed(expected, "the site cannot reach "+what+": "+cmp.Or(i.probe.DatabaseError, "no version told"),
			"see the logs in "+i.v.Machine.Home.Path("logs"))
	case versionIn(observed) != expected:
		return failed(expected, observed, "stop and start the site, so that it is handed to "+id)
	}
	return passed(expected, observed)
}

var versionNumber = regexp.MustCompile(`\d+\.\d+\.\d+`)

// versionIn reads 10.11.19 out of 10.11.19-MariaDB-0+deb12u1, or 1.22.1 out of nginx/1.22.1.
func versionIn(text string) string { return versionNumber.FindString(text) }
