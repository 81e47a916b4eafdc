// Package standin is the practice host: a small code host on loopback, with git over SSH,
// an interface over HTTPS and the accounts and repositories of a made-up cooperative. It
// signs in by registered keys only, and keeps to read and write rules.
//
// [Start] starts one; it belongs to whoever started it and ends with [Host.Close]. It is
// for trying and testing: everything in it is thrown away.
package standin

// A world is what a practice host holds.
type world struct {
	name     string // how its description calls it
	title    string
	hostname string
	accounts []string
	owner    string // the account whose token is handed out
	repos    []repository
}

// A right is what an account may do with a repository.
type right int

const (
	hidden right = iota // it does not exist for this account
	reads
	writes
)

// A repository is one of the host's, with the first commit it is made with.
type repository struct {
	path   string
	rights map[string]right
	frozen bool
	files  map[string]string
}

// tidewater is the world of the demo: the host of a cooperative that watches a coast.
func tidewater() *world {
	const ines, lab, chair = "ines.marlow", "lab", "chair"
	return &world{
		name: "forge", title: "Tidewater's forge", hostname: "forge.tidewater.example",
		accounts: []string{ines, lab, chair}, owner: ines,
		repos: []repository{
			{path: "buoys/drift-model", rights: map[string]right{ines: writes, lab: writes}, files: map[string]string{
				"README.md": "# Drift model\n\nWhere a buoy goes when its mooring parts.\n",
				"drift.csv": "hour,east_m,north_m\n0,0,0\n1,412,-96\n2,871,-240\n",
			}},
			{path: "buoys/tide-tables", rights: map[string]right{ines: writes, lab: reads}, files: map[string]string{
				"README.md": "# Tide tables\n\nHigh and low water for the nine gauges of the coast.\n",
			}},
			{path: "harbour/lamp-firmware", rights: map[string]right{ines: reads, chair: writes}, files: map[string]string{
				"README.md": "# Lamp firmware\n\nThree long, one short.\n",
			}},
			{path: "archive/log-1998", frozen: true, rights: map[string]right{ines: writes, lab: reads, chair: writes}, files: map[string]string{
				"1998.txt": "The year the north gauge was lost.\n",
			}},
			{path: "council/minutes", rights: map[string]right{chair: writes}, files: map[string]string{
				"README.md": "# Minutes\n",
			}},
		},
	}
}

// A sight is a repository as one account sees it.
type sight struct {
	path     string
	mayWrite bool
	frozen   bool
}

// sights lists the repositories that an account may see.
func (h *Host) sights(account string) []sight {
	h.state.Lock()
	defer h.state.Unlock()
	var list []sight
	for _, repo := range h.world.repos {
		if right := repo.rights[account]; right != hidden {
			list = append(list, sight{repo.path, right == writes && !repo.frozen, repo.frozen})
		}
	}
	return list
}

// sight returns the repository at path as account sees it; ok is false when it does not.
func (h *Host) sight(account, path string) (s sight, ok bool) {
	for _, s := range h.sights(account) {
		if s.path == path {
			return s, true
		}
	}
	return sight{}, false
}
