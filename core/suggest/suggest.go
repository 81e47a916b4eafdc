// Package suggest finds out what was perhaps meant.
package suggest

// Distance counts the letters to be put in, taken out or changed to make one text of another
// (Levenshtein), and gives up at a limit.
func Distance(a, b string, limit int) int {
	if len(a)-len(b) >= limit || len(b)-len(a) >= limit {
		return limit
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			next := min(row[j]+1, row[j+1]+1, diagonal)
			if a[i] != b[j] {
				next = min(row[j]+1, row[j+1]+1, diagonal+1)
			}
			diagonal, row[j+1] = row[j+1], next
		}
	}
	return min(row[len(b)], limit)
}
