package retention

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A point each hour for ten weeks, thinned each time: an hour's each stay for a day, a day's for a week, a week's for a month.
func TestPointsGrowRarerAsTheyGrowOlder(t *testing.T) {
	now := time.Date(2026, 3, 2, 9, 30, 0, 0, time.UTC)
	points := []Point{{ID: "pinned", At: now.Add(-time.Hour), Pinned: true}}
	for i := range 24 * 70 {
		now = now.Add(time.Hour)
		points = append(points, Point{ID: fmt.Sprint(i), At: now})
		gone := map[string]bool{}
		for _, id := range Dropped(points, now, Usual) {
			gone[id] = true
		}
		left := []Point{}
		for _, p := range points {
			if !gone[p.ID] {
				left = append(left, p)
			}
		}
		points = left
	}
	ages := map[string]int{}
	for _, p := range points {
		switch age := now.Sub(p.At); {
		case p.Pinned:
			ages["pinned"]++
		case age < 24*time.Hour:
			ages["hours"]++
		case age < 7*24*time.Hour:
			ages["days"]++
		default:
			ages["weeks"]++
		}
	}
	assert.Equal(t, map[string]int{"pinned": 1, "hours": 24, "days": 6, "weeks": 3}, ages)
	assert.Equal(t, time.Monday, week(now).Weekday())
}

func TestTheNewestAndThePinnedStay(t *testing.T) {
	now := time.Date(2026, 3, 2, 9, 30, 0, 0, time.UTC)
	at := func(minutes int) time.Time { return now.Add(-time.Duration(minutes) * time.Minute) }
	points := []Point{{ID: "1", At: at(20)}, {ID: "2", At: at(15), Pinned: true}, {ID: "3", At: at(10)},
		{ID: "4", At: at(5)}, {ID: "5", At: at(1)}}
	assert.Equal(t, []string{"3", "1"}, Dropped(points, now, Usual))
	assert.Empty(t, Dropped(nil, now, Usual))
}

// What is shared is counted once, and goes with the last that has it.
func TestTheOldestGoWhereAllTakeTooMuch(t *testing.T) {
	now := time.Date(2026, 3, 2, 9, 30, 0, 0, time.UTC)
	points := []Point{}
	for i := range 6 {
		points = append(points, Point{ID: fmt.Sprint(i), At: now.Add(-time.Duration(6-i) * time.Hour),
			Blobs: map[string]int64{"shared": 100, fmt.Sprint("own", i): 10}, Pinned: i == 1})
	}
	rules := Usual
	for most, gone := range map[int64][]string{160: nil, 159: {"0"}, 150: {"0"}, 140: {"0", "2"}, 130: {"0", "2", "3"}, 5: {"0", "2", "3"}} {
		rules.Bytes = most
		assert.Equal(t, gone, Dropped(points, now, rules), most)
	}
}
