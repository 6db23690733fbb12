// Package survey looks at the machine as Vessik will find it, before anything is changed: ports, servers, names, disk, memory, limits,
// archive. It only looks.
package survey

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"vessik/internal/cell"
	"vessik/internal/engine"
	"vessik/internal/home"
	"vessik/internal/picture"
)

// Verdict is what a finding means for Vessik.
type Verdict string

const (
	Good   Verdict = "good"
	Notice Verdict = "notice" // it will work, but something is worth knowing
	Fault  Verdict = "fault"  // something will not work
)

// Finding is one thing that was looked at.
type Finding struct {
	Area     string  `json:"area"`
	Subject  string  `json:"subject"`
	Observed string  `json:"observed"`
	Verdict  Verdict `json:"verdict" enum:"good,notice,fault"`
	Remedy   string  `json:"remedy,omitempty"`
}

// Survey is all findings; Faults counts those that will not work.
type Survey struct {
	Findings []Finding `json:"findings" nullable:"false"`
	Faults   int       `json:"faults"`
}

type survey struct {
	listeners map[int]string // who listens, by port
	findings  []Finding
}

func (s *survey) add(area, subject, observed string, verdict Verdict, remedy string) {
	s.findings = append(s.findings, Finding{area, subject, observed, verdict, remedy})
}

// Look surveys the machine for a home folder.
func Look(ctx context.Context, home home.Home) Survey {
	s := &survey{listeners: engine.Listeners()}
	settings, _ := home.ReadSettings()
	s.ports(home, settings)
	s.servers()
	s.names(ctx)
	s.space(home)
	s.limits()
	s.tools(ctx, home)
	result := Survey{Findings: s.findings}
	for _, f := range s.findings {
		if f.Verdict == Fault {
			result.Faults++
		}
	}
	return result
}

// ports looks at those that Vessik wants.
func (s *survey) ports(home home.Home, settings home.Settings) {
	own := home.InUse()
	first := engine.FirstUnprivilegedPort()
	for _, port := range []int{80, 443} {
		subject := fmt.Sprintf("port %d", port)
		holder := engine.PortHolder(port)
		switch {
		case own && engine.Listens(port) && strings.HasPrefix(engine.Listener(port), "vessik"):
			s.add("ports", subject, "held by Vessik itself", Good, "")
		case os.Geteuid() != 0 && port < first:
			s.add("ports", subject, fmt.Sprintf("only root may open it (ports from %d are open to all)", first), Notice,
				fmt.Sprintf("sites get addresses with a port; for addresses without one, start the service as root, or: sysctl "+
					"net.ipv4.ip_unprivileged_port_start=%d", port))
		case holder == "":
			s.add("ports", subject, "free, and may be opened", Good, "")
		default:
			s.add("ports", subject, "held by "+holder, Notice, "sites get addresses with another port; end that program to have them without")
		}
	}
	for _, port := range []int{settings.GatewayPort, settings.HTTPSPort} {
		if port == 0 || port == 80 || port == 443 {
			continue
		}
		holder := engine.PortHolder(port)
		switch {
		case holder == "" || strings.HasPrefix(holder, "vessik"):
			s.add("ports", fmt.Sprintf("gateway, %d", port), "the sites' addresses name this port; it is free, or Vessik holds it", Good, "")
		default:
			s.add("ports", fmt.Sprintf("gateway, %d", port), "held by "+holder, Fault,
				"every site's address names this port: end that program, then start the service")
		}
	}
	sites := settings.PortRange
	if sites[0] == 0 {
		sites = [2]int{21000, 21999}
	}
	for _, r := range []struct {
		what     string
		from, to int
		least    int
	}{{"console and commands", 20070, 20079, 1}, {"sites", sites[0], sites[1], 10}, {"database servers", 22000, 24999, 3}} {
		taken, holders := 0, []string{}
		for port := r.from; port <= r.to; port++ {
			holder, listens := s.listeners[port]
			if !listens {
				continue
			}
			taken++
			if own && (strings.HasPrefix(holder, "vessik") || strings.HasPrefix(holder, "nginx") || strings.HasPrefix(holder, "mariadbd")) {
				continue
			}
			holders = append(holders, fmt.Sprintf("%d by %s", port, holder))
		}
		subject := fmt.Sprintf("%s, %d to %d", r.what, r.from, r.to)
		observed := fmt.Sprintf("%d of %d free", r.to-r.from+1-taken, r.to-r.from+1)
		switch {
		case r.to-r.from+1-taken < r.least && !own:
			s.add("ports", subject, observed+": "+strings.Join(holders, ", "), Fault,
				"end some of those programs, or choose another range with: vessik serve -site-ports FROM-TO")
		case len(holders) > 0:
			s.add("ports", subject, observed+"; held: "+strings.Join(holders[:min(len(holders), 5)], ", "), Notice,
				"nothing is needed: they are passed over")
		default:
			s.add("ports", subject, observed, Good, "")
		}
	}
}

// servers looks for other web and database servers that listen on this machine.
func (s *survey) servers() {
	known := regexp.MustCompile(`^(nginx|apache2|httpd|lighttpd|caddy|mariadbd|mysqld|postgres|php-fpm.*)$`)
	found := map[string][]int{}
	for port, holder := range s.listeners {
		name, _, _ := strings.Cut(holder, " (")
		if known.MatchString(name) && !ofVessik(holder) && !slices.Contains(found[holder], port) {
			found[holder] = append(found[holder], port)
		}
	}
	if len(found) == 0 {
		s.add("neighbours", "other web and database servers", "none listens that this account can see", Good, "")
	}
	for holder, ports := range found {
		slices.Sort(ports)
		s.add("neighbours", holder, fmt.Sprintf("listens on %s", strings.Trim(fmt.Sprint(ports), "[]")), Notice,
			"it is left alone, and Vessik's own engines use other ports and sockets")
	}
}

// ofVessik tells whether a process was started by a service of this program.
func ofVessik(holder string) bool {
	_, pid, _ := strings.Cut(strings.TrimSuffix(holder, ")"), "(process ")
	for range 4 {
		name, _ := os.ReadFile("/proc/" + pid + "/comm")
		if strings.TrimSpace(string(name)) == "vessik" {
			return true
		}
		stat, err := os.ReadFile("/proc/" + pid + "/stat")
		if err != nil {
			return false
		}
		fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
		if len(fields) < 2 || fields[1] == "1" || fields[1] == "0" {
			return false
		}
		pid = fields[1]
	}
	return false
}

// names looks at what the names of sites resolve to.
func (s *survey) names(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	for _, host := range []string{"fernhollow.localhost", "fernhollow.test"} {
		out, err := exec.CommandContext(ctx, "getent", "ahosts", host).Output()
		addresses := []string{}
		for line := range strings.Lines(string(out)) {
			if fields := strings.Fields(line); len(fields) > 0 && !slices.Contains(addresses, fields[0]) {
				addresses = append(addresses, fields[0])
			}
		}
		local := err == nil && len(addresses) > 0 && !slices.ContainsFunc(addresses, func(a string) bool { return !net.ParseIP(a).IsLoopback() })
		subject := "*." + host[strings.Index(host, ".")+1:]
		switch {
		case local:
			s.add("names", subject, "programs of this account resolve them to "+strings.Join(addresses, ", "), Good, "")
		case len(addresses) > 0:
			s.add("names", subject, "programs resolve them to "+strings.Join(addresses, ", ")+", which is not this machine", Notice,
				"choose domains that end in .localhost")
		case subject == "*.localhost":
			s.add("names", subject, "programs of this account do not resolve them; browsers do by themselves (RFC 6761)", Notice,
				"nothing is needed for browsers; for programs install the package libnss-myhostname")
		default:
			s.add("names", subject, "nobody resolves them here", Notice, "choose domains that end in .localhost, which work at once")
		}
	}
}

func (s *survey) space(home home.Home) {
	for _, place := range []struct{ what, path string }{{"home folder", home.Dir}, {"engine store", home.Engines}} {
		free, err := engine.FreeBytes(place.path)
		subject := place.what + ", " + place.path
		if err != nil {
			s.add("disk", subject, err.Error(), Fault, "choose another folder with -home or VESSIK_ENGINES")
			continue
		}
		observed := fmt.Sprintf("%.1f GB free", float64(free)/(1<<30))
		verdict, remedy := Good, ""
		switch {
		case free < 1<<30:
			verdict, remedy = Fault, "make room: engines take about 0.3 GB a generation, a site 0.1 GB"
		case free < 5<<30:
			verdict, remedy = Notice, "room for some dozens of sites; make more before there are many"
		}
		s.add("disk", subject, observed, verdict, remedy)
	}
	available := meminfo("MemAvailable")
	observed := fmt.Sprintf("%.1f GB available of %.1f GB", float64(available)/(1<<30), float64(meminfo("MemTotal"))/(1<<30))
	if available < 512<<20 {
		s.add("memory", "memory", observed, Notice, "end other programs, or let sites go to rest sooner")
	} else {
		s.add("memory", "memory", observed, Good, "")
	}
}

func meminfo(name string) int64 {
	text, _ := os.ReadFile("/proc/meminfo")
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, name+":"); ok {
			if fields := strings.Fields(rest); len(fields) > 0 {
				kilobytes, _ := strconv.ParseInt(fields[0], 10, 64)
				return kilobytes << 10
			}
		}
	}
	return 0
}

// walls makes a cell as a trial.
func (s *survey) walls() {
	dir, err := os.MkdirTemp("", "vessik-survey-")
	if err != nil {
		return
	}
	defer os.RemoveAll(dir)
	cells, err := cell.Open(dir)
	if err != nil {
		s.add("limits", "cells", err.Error(), Notice, "build with make")
		return
	}
	defer cells.Close()
	switch a := cells.Abilities; {
	case a.Namespaces:
		s.add("limits", "cells", fmt.Sprintf("sites live in cells of their own; Landlock %d and seccomp are the second wall", a.Landlock), Good,
			"")
	case a.Files():
		s.add("limits", "cells", "none ("+a.Why+"); Landlock and seccomp alone keep sites apart", Notice,
			"allow user namespaces (sysctl kernel.unprivileged_userns_clone, user.max_user_namespaces, or the AppArmor profile)")
	default:
		s.add("limits", "cells", "this kernel cannot keep sites apart: "+a.Why, Notice,
			"use a kernel of 5.19 or later with user namespaces or Landlock; until then only open_basedir keeps sites apart")
	}
}

func (s *survey) limits() {
	var limit syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit) == nil {
		observed := fmt.Sprintf("%d for this account, up to %d where a program asks", limit.Cur, limit.Max)
		if limit.Max < 4096 {
			s.add("limits", "open files", observed, Notice, "enough for some dozens of sites; raise nofile in /etc/security/limits.conf for more")
		} else {
			s.add("limits", "open files", observed, Good, "")
		}
	}
	s.walls()
	now := time.Now()
	zone, _ := now.Zone()
	if now.Year() < 2024 {
		s.add("limits", "time", now.Format(time.RFC3339), Fault, "set the clock: package lists and certificates would count as not yet valid")
	} else {
		s.add("limits", "time", now.Format("2006-01-02 15:04:05")+" "+zone, Good, "")
	}
	locale := "C (none is set)"
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if value := os.Getenv(name); value != "" {
			locale = value
			break
		}
	}
	if strings.Contains(strings.ToUpper(locale), "UTF-8") || strings.Contains(strings.ToUpper(locale), "UTF8") {
		s.add("limits", "locale", locale, Good, "")
	} else {
		s.add("limits", "locale", locale, Notice, "sites are not affected; names of files in other scripts may look odd in this terminal: set "+
			"LANG=C.UTF-8")
	}
}

func (s *survey) tools(ctx context.Context, home home.Home) {
	for _, program := range []string{"apt-get", "dpkg-deb"} {
		if path, err := exec.LookPath(program); err == nil {
			s.add("archive", program, path, Good, "")
		} else {
			s.add("archive", program, "not on this machine", Fault,
				"engines come from Debian's packages: use a Debian system, or adopt engines of your own")
		}
	}
	address, err := engine.Store{Dir: home.Engines}.Archive()
	if err != nil {
		s.add("archive", "Debian archive", err.Error(), Fault, "add a Debian archive to this machine's apt sources, see sources.list(5)")
	} else if err := reach(ctx, address); err != nil {
		s.add("archive", "Debian archive", "it does not answer: "+err.Error(), Notice,
			"engines that are here keep working; to fetch others, check the network")
	} else {
		s.add("archive", "Debian archive", "the one of this machine's apt sources answers", Good, "")
	}
	present := []string{}
	for _, e := range (engine.Store{Dir: home.Engines}).List() {
		present = append(present, e.ID)
	}
	s.add("archive", "engine store", fmt.Sprintf("%d of %d engines are here", len(present), len(engine.Catalogue)), Good, "")
	if picture.Browser() == "" {
		s.add("archive", "Chromium", "not on this machine", Notice, "trials take no pictures; install the package chromium for them")
	} else {
		s.add("archive", "Chromium", picture.Browser(), Good, "")
	}
}

func reach(ctx context.Context, address string) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, "HEAD", strings.TrimSuffix(address, "/")+"/dists/bookworm/InRelease", nil)
	if err != nil {
		return err
	}
	if request.URL.Scheme != "http" && request.URL.Scheme != "https" {
		if _, err := os.Stat(filepath.Join(request.URL.Path, "dists")); err != nil {
			return errors.New("its folder cannot be read")
		}
		return nil
	}
	client := http.Client{Timeout: 10 * time.Second}
	defer client.CloseIdleConnections()
	response, err := client.Do(request)
	if err != nil {
		return errors.Unwrap(err)
	}
	response.Body.Close()
	if response.StatusCode >= 400 {
		return errors.New(response.Status)
	}
	return nil
}
