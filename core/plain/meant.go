package plain

import "strings"

// Meant suggests the name that is nearest to an unknown one, or lists all names if they are
// few; "" if no name is near.
func Meant(name string, names []string) string {
	best, least := "", max(2, len(name)/3)+1
	for _, n := range names {
		if d := distance(name, n); d < least {
			best, least = n, d
		}
	}
	if best != "" {
		return "did you mean " + best + "?"
	}
	if len(names) > 0 && len(names) <= 14 {
		return "there are " + strings.Join(names, ", ")
	}
	return ""
}

// distance counts the edits between two names (Levenshtein).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost++
			}
			diagonal = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}
