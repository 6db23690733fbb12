package site

// closest is the known word that differs in the fewest letters, if it is near.
func closest(word string, known []string) string {
	best, near := 4, ""
	for _, k := range known {
		if d := distance(word, k); d < best {
			best, near = d, k
		}
	}
	return near
}

// distance is Levenshtein's.
func distance(a, b string) int {
	if d := len(a) - len(b); d > 3 || d < -3 {
		return 9
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		previous := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := previous
			if a[i] != b[j] {
				cost++
			}
			previous = row[j+1]
			row[j+1] = min(cost, row[j+1]+1, row[j]+1)
		}
	}
	return row[len(b)]
}
