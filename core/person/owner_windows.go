package person

// Owns holds for every file here: Windows keeps no owner by whom programs go.
func (p Person) Owns(string) bool { return true }
