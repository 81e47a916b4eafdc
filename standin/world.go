package standin

import "net/http"

// A world is what a practice host holds, and how it is spoken to.
type world struct {
	name     string // how its description calls it
	title    string
	hostname string
	accounts []string
	owner    string   // the account whose token is handed out
	handed   []string // whose tokens are handed out besides
	repos    []repository
	all      []string                    // every scope of its tokens
	serve    func(*Host, *http.ServeMux) // its interface
}

// worlds are the hosts of the made-up world, each with an interface of another shape.
var worlds = map[string]func() *world{"forge": tidewater, "saltmarsh": saltmarsh, "lantern": lantern}

// A right is what an account may do with a repository.
type right int

const (
	hidden right = iota // it does not exist for this account
	reads
	writes
)

// A repository is one of the host's, with the first commit it is made with.
type repository struct {
	path    string
	rights  map[string]right
	frozen  bool
	private bool
	files   map[string]string
}

// tidewater is the world of the demo: the host of a cooperative that watches a coast.
func tidewater() *world {
	const ines, lab, chair = "ines.marlow", "lab", "chair"
	return &world{
		name: "forge", title: "Tidewater's forge", hostname: "forge.tidewater.example",
		accounts: []string{ines, lab, chair}, owner: ines, handed: []string{lab},
		all:   []string{"repo:read", "repo:write", "packages:read", "keys", "repos", "tokens"},
		serve: func(h *Host, mux *http.ServeMux) { forgeAPI{h}.serve(mux) },
		repos: []repository{
			{path: "buoys/drift-model", rights: map[string]right{ines: writes, lab: writes}, files: map[string]string{
				"README.md": "# Drift model\n\nWhere a buoy goes when its mooring parts.\n",
				"drift.csv": "hour,east_m,north_m\n0,0,0\n1,412,-96\n2,871,-240\n",
			}},
			{path: "buoys/tide-tables", rights: map[string]right{ines: writes, lab: reads}, files: map[string]string{
				"README.md": "# Tide tables\n\nHigh and low water for the nine gauges of the coast.\n",
			}},
			{path: "harbour/lamp-firmware", rights: map[string]right{ines: reads, chair: writes},
				files: map[string]string{
					"README.md": "# Lamp firmware\n\nThree long, one short.\n",
				}},
			{path: "archive/log-1998", frozen: true, rights: map[string]right{ines: writes, lab: reads, chair: writes},
				files: map[string]string{
					"1998.txt": "The year the north gauge was lost.\n",
				}},
			{path: "council/minutes", rights: map[string]right{chair: writes}, files: map[string]string{
				"README.md": "# Minutes\n",
			}},
		},
	}
}

// saltmarsh is a partner institute's host.
func saltmarsh() *world {
	const ines, keeper = "imarlow", "keeper"
	return &world{
		name: "saltmarsh", title: "The saltmarsh institute", hostname: "git.saltmarsh.example",
		accounts: []string{keeper, ines}, owner: ines, all: []string{"read", "write", "keys", "trees", "passes"},
		serve: func(h *Host, mux *http.ServeMux) { marshAPI{h}.serve(mux) },
		repos: []repository{
			{path: "buoys/drift-model", rights: map[string]right{ines: writes, keeper: writes},
				files: map[string]string{"README.md": "# Drift model\n\nThe institute's copy.\n"}},
			{path: "buoys/tide-tables", rights: map[string]right{ines: reads, keeper: writes},
				files: map[string]string{"README.md": "# Tide tables\n"}},
		},
	}
}

// lantern is a volunteer's host, with a page and nothing else.
func lantern() *world {
	const ines = "ines"
	return &world{
		name: "lantern", title: "A volunteer's lantern", hostname: "code.lanternfish.example",
		accounts: []string{ines}, owner: ines, serve: (*Host).serveLantern,
		repos: []repository{{path: "harbour/lamp-firmware", rights: map[string]right{ines: writes},
			files: map[string]string{"README.md": "# Lamp firmware\n\nThree long, one short.\n"}}},
	}
}

// A sight is a repository as one account sees it.
type sight struct {
	path     string
	mayWrite bool
	frozen   bool
	private  bool
	number   int // from 1, for hosts that number their repositories
}

// sights lists the repositories that an account may see.
func (h *Host) sights(account string) []sight {
	h.state.Lock()
	defer h.state.Unlock()
	var list []sight
	for i, repo := range h.world.repos {
		if right := repo.rights[account]; right != hidden {
			list = append(list, sight{repo.path, right == writes && !repo.frozen, repo.frozen, repo.private, i + 1})
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
