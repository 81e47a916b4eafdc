package workstation

// AsOwner does something to a path. An administrator's files are told from others' by access lists.
func AsOwner(_ string, work func() error) error { return work() }
