package look

import (
	"bytes"
	"os"
	"slices"
	"time"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/workstation"
)

// An Agent is one that ssh would ask: for hosts whose settings name it, or for all others.
type Agent struct {
	Socket  string
	Holder  bool     // ours
	Hosts   []string // described hosts for which ssh would ask it
	Default bool     // asked for a host without settings of its own: that of the environment
	Keys    []Held
	Answers bool
}

// A Held is a key in an agent.
type Held struct {
	agent.Held
	Ends time.Time // when it is forgotten; zero where the agent does not tell
}

// meet asks the agent at a socket, once however many hosts use it, and returns it.
func (v *View) meet(station *workstation.Station, socket string) *Agent {
	for i := range v.Agents {
		if v.Agents[i].Socket == socket {
			return &v.Agents[i]
		}
	}
	a := Agent{Socket: socket, Holder: station.IsHolder(socket)}
	if conn, err := agent.Open(socket); err == nil {
		a.Keys, a.Answers = heldBy(conn), true
		_ = conn.Close() // it was only asked
	}
	v.Agents = append(v.Agents, a)
	return &v.Agents[len(v.Agents)-1]
}

func heldBy(conn *agent.Conn) []Held {
	var list []Held
	for _, key := range conn.Keys {
		list = append(list, Held{Held: key})
	}
	holdings, err := conn.Holdings()
	if err != nil { // an agent of another make
		return list
	}
	for _, holding := range holdings {
		for i := range list {
			if string(list[i].Public.Marshal()) == string(holding.Blob) {
				list[i].Ends = holding.Ends
			}
		}
	}
	return list
}

// meetAgents asks the holder, and every agent that settings of described hosts or the
// environment name.
func (v *View) meetAgents(station *workstation.Station, byHost map[string]string, environment string) {
	if _, err := os.Stat(station.HolderSocket()); err == nil {
		v.meet(station, station.HolderSocket())
	}
	for _, host := range v.Hosts {
		if socket := byHost[host.Description.Name]; socket != "" {
			a := v.meet(station, socket)
			a.Hosts = append(a.Hosts, host.Description.Name)
		}
	}
	if environment != "" {
		v.meet(station, environment).Default = true
	}
	for _, a := range v.Agents {
		for _, held := range a.Keys {
			for i, key := range v.Keys { // it may lie in several files
				if key.Pair.Public != nil && bytes.Equal(key.Pair.Public.Marshal(), held.Public.Marshal()) {
					v.Keys[i].InAgent = true
				}
			}
		}
	}
	slices.SortStableFunc(v.Agents, func(a, b Agent) int { // the holder first
		switch {
		case a.Holder == b.Holder:
			return 0
		case a.Holder:
			return -1
		}
		return 1
	})
}
