package workstation

// Trusted is true: the folder of the machine can be written by administrators alone, unless one of them said otherwise.
func (s *Station) Trusted(string) bool { return true }
