package site

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// EngineFact is one engine that a request may name.
type EngineFact struct {
	ID      string // e.g. nginx-1.26
	Version string // in full, as far as it is known
	Age     int    // orders engines whose ids carry the same version: the higher, the newer
}

// CompareVersions orders versions by their numbers, as cmp.Compare does: 10.5 is older than 10.11.
func CompareVersions(a, b string) int {
	return slices.Compare(numbersOf(a), numbersOf(b))
}

func numbersOf(version string) []int {
	numbers := []int{}
	for part := range strings.FieldsFuncSeq(version, func(r rune) bool { return r < '0' || r > '9' }) {
		n, _ := strconv.Atoi(part)
		numbers = append(numbers, n)
	}
	return numbers
}

// MajorMinor is the version in an engine's id: 8.2 of php-8.2.
func MajorMinor(id string) string {
	numbers := numbersOf(id)
	if len(numbers) < 2 {
		return ""
	}
	return fmt.Sprintf("%d.%d", numbers[0], numbers[1])
}

// MatchEngine finds the engine that somebody means by an id, a full version (apache-2.4.71), or any part of them; where several fit,
// it is the newest. ok is false where none does.
func MatchEngine(engines []EngineFact, part string) (id string, ok bool) {
	part = strings.ToLower(strings.TrimSpace(part))
	fitting := []EngineFact{}
	for _, e := range engines {
		name, _, _ := strings.Cut(e.ID, "-")
		if e.ID == part {
			return e.ID, true
		}
		if part != "" && (strings.Contains(e.ID, part) || e.Version != "" && strings.Contains(name+"-"+e.Version, part)) {
			fitting = append(fitting, e)
		}
	}
	// A version that begins with what was asked goes before one that merely contains it: 8 is PHP 8.4, never nginx 1.18.
	starts := slices.DeleteFunc(slices.Clone(fitting), func(e EngineFact) bool {
		_, version, _ := strings.Cut(e.ID, "-")
		return !strings.HasPrefix(e.ID, part) && !strings.HasPrefix(version, part) && !strings.HasPrefix(e.Version, part)
	})
	if len(starts) > 0 {
		fitting = starts
	}
	if len(fitting) == 0 {
		return "", false
	}
	return slices.MaxFunc(fitting, func(a, b EngineFact) int {
		return cmp.Or(CompareVersions(a.ID, b.ID), cmp.Compare(a.Age, b.Age))
	}).ID, true
}

// MatchEngines reads a list such as "7.4,8" or "all".
func MatchEngines(engines []EngineFact, list string) (ids []string, err error) {
	if strings.TrimSpace(list) == "all" {
		for _, e := range engines {
			ids = append(ids, e.ID)
		}
		return ids, nil
	}
	for part := range strings.SplitSeq(list, ",") {
		id, ok := MatchEngine(engines, part)
		if !ok {
			return nil, fmt.Errorf("no engine fits %q", strings.TrimSpace(part))
		}
		if !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	return ids, nil
}

func idsOf(engines []EngineFact) []string {
	ids := make([]string, len(engines))
	for i, e := range engines {
		ids[i] = e.ID
	}
	return ids
}
