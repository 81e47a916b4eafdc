package person

// Owns holds for every file here: Windows keeps no owner by whom programs go.
func (p Person) Owns(string) bool { return true }

// Trusted is true: the folder of the machine can be written by administrators alone, unless one of them said otherwise.
func (p Person) Trusted(string) bool { return true }
