// Package retention decides which of a site's restore points stay.
package retention

import (
	"slices"
	"time"
)

// Point is a restore point as the rules see it.
type Point struct {
	ID     string
	At     time.Time
	Pinned bool             // it stays until somebody drops it
	Blobs  map[string]int64 // that it is made of, by their sums, in bytes that they take
}

// Rules say which points stay of those that are not pinned: the newest, the last one of each hour, day and week for so many of them, as
// long as all that a site's points are made of takes no more than so many bytes.
type Rules struct {
	Newest, Hours, Days, Weeks int
	Bytes                      int64
}

// Usual are the rules where nobody asked for others.
var Usual = Rules{Newest: 2, Hours: 24, Days: 7, Weeks: 4, Bytes: 10 << 30}

// Dropped names the points that go. The newest stay whatever they take.
func Dropped(points []Point, now time.Time, rules Rules) (ids []string) {
	points = slices.Clone(points)
	slices.SortStableFunc(points, func(a, b Point) int { return b.At.Compare(a.At) })
	stays, newest := map[string]bool{}, map[string]bool{}
	for _, p := range points {
		if !p.Pinned && len(newest) < rules.Newest {
			newest[p.ID], stays[p.ID] = true, true
		}
		stays[p.ID] = stays[p.ID] || p.Pinned
	}
	for _, each := range []struct {
		of    func(time.Time) time.Time
		since time.Time
	}{
		{func(at time.Time) time.Time { return at.Truncate(time.Hour) }, now.Add(-time.Duration(rules.Hours) * time.Hour)},
		{day, now.AddDate(0, 0, -rules.Days)},
		{week, now.AddDate(0, 0, -7*rules.Weeks)},
	} {
		seen := map[time.Time]bool{}
		for _, p := range points {
			if span := each.of(p.At.UTC()); !p.Pinned && p.At.After(each.since) && !seen[span] {
				seen[span], stays[p.ID] = true, true
			}
		}
	}
	for _, p := range points {
		if !stays[p.ID] {
			ids = append(ids, p.ID)
		}
	}
	return append(ids, tooLarge(points, stays, newest, rules.Bytes)...)
}

// tooLarge names the oldest of those that would stay, as many as it takes to come down to a size.
func tooLarge(points []Point, stays, newest map[string]bool, most int64) (ids []string) {
	bytes, users := int64(0), map[string]int{}
	for _, p := range points {
		if !stays[p.ID] {
			continue
		}
		for sum, stored := range p.Blobs {
			if users[sum]++; users[sum] == 1 {
				bytes += stored
			}
		}
	}
	for _, p := range slices.Backward(points) {
		if bytes <= most {
			return ids
		}
		if !stays[p.ID] || p.Pinned || newest[p.ID] {
			continue
		}
		ids = append(ids, p.ID)
		for sum, stored := range p.Blobs {
			if users[sum]--; users[sum] == 0 {
				bytes -= stored
			}
		}
	}
	return ids
}

func day(at time.Time) time.Time { return at.Truncate(24 * time.Hour) }

// week begins on the Monday of a moment; the zero time is one.
func week(at time.Time) time.Time { return at.Truncate(7 * 24 * time.Hour) }
