package gitlink

import "os"

func askToEnd(p *os.Process) error { return p.Kill() }
