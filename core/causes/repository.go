package causes

// repositoryCauses are those of the repository, or of the host as a whole.
var repositoryCauses = []entry{
	{RepositoryMissing, Repository, "The repository does not exist, or this account may not see it.",
		Administrator,
		"Check the spelling of REPO. If it is right, ask its owner to give ACCOUNT access.", "asked for",
		signs{
			words: []string{
				`(^|[^t]: |[^: ] ?)(repository|project|repo)\b.{0,120}(not found|could not be found|does not exist|doesn.t exist|no such)`,
				`(no such|there is no) (repository|project)`,
				`(not found|does not exist).{0,60}(repository|project)`,
				`access denied or repository not exported|illegal repository\b`,
			},
			shown: []sign{
				{`does not appear to be a git repository`, .7},
				{`repository '[^'\n]*' does not exist`, .85},
				{`requested url returned error: 404|http error 404|404 not found`, .85},
				{`\br any \S+ \S+ denied`, .8},
				{`requested url returned error: 410|http error 410`, .8},
				{`requested url returned error: 4(00|05|06)`, .25},
				{`repository '?https?://\S+'? not found`, .9},
				{`remote: not found`, .8},
				{`abort: repository \S+ not found`, .55},
				{`no suitable response from remote hg`, .4},
				{bare, .4},
			},
			unless: `'[^':]+@[^':/]+/[^']*' does|(tree|blob|src|files|commits?)/|'(origin|upstream)' does not appear|remote branch|^abort: repository \S+@\S+ not found|ssh: not found|found on your path`,
			tell:   "Open the repository's page in a browser as the same account.",
		}},
	{RepositoryMoved, Repository, "The repository has another URL now.", You,
		"Use the URL that the host gives.", "the host says",
		signs{
			words: []string{
				`(repository|project) .{0,40}(moved|renamed|transferred)|new (location|address|url)|moved (permanently|to)|please use the new`,
			},
			shown: []sign{
				{`maximum \(\d+\) redirects followed|number of redirects hit maximum|redirect target url could not`, .6},
				{`unable to update url base from redirection`, .75},
				{`requested url returned error: 30\d|http error 30\d`, .85},
				{`resolve host.*\[elsewhere\]`, .8},
			},
			unless: `redirect: ?\S*(sign[-_]?in|log[-_]?in|/auth|/sso)`,
		}},
	{RepositoryNotGit, Repository, "The path exists on the host, but it is not a repository.", Administrator,
		"Check the path. If it is right, ask whoever runs HOST what REPO is.", "asked for",
		signs{
			words: []string{`not a (git|mercurial) repository`},
			shown: []sign{
				{`does not appear to be a git repository|abort: repository \S+ not found`, .25},
				{`not valid: is this a git repository`, .5},
				{
					`bad line length character|invalid server response|expected flush after ref listing|invalid advertisement|does not look like an? (hg|mercurial) repository|unexpected (content|response)`,
					.55,
				},
			},
			unless: `^(fatal: )?not a git repository[ :]|bad line length character: (thi|you)|^abort: repository \S+@\S+ not found`,
		}},
	{RepositoryWithheld, Repository, "The host withholds the repository for legal reasons.", Host,
		"Nothing can be done here. Ask the owner of REPO, or whoever runs HOST.", "host says",
		signs{
			words: []string{
				`legal (reasons|request|demand|notice)|court order|takedown|copyright (claim|complaint|infring)|unavailable (due to|for) legal`,
			},
			shown: []sign{{`(error|code|http|response|status):? 451\b`, .93}},
		}},
	{HostLimits, Repository, "The host has received too many requests for now.", You,
		"Wait, and try again later.", "host says",
		signs{
			words: []string{
				`too many requests|rate.?limit|abuse detection|slow down|quota .{0,20}requests|try again (later|in \d)`,
			},
			shown: []sign{{`(error|code|http|response|status):? 429\b`, .93}},
		}},
	{HostFailing, Repository, "The host has a fault of its own.", Host,
		"Try again later. If it stays so, tell whoever runs HOST.", "asked for",
		signs{
			words: []string{
				`command not found|internal (server )?error|service unavailable|under maintenance|maintenance (mode|until|window)|back (at|by|in) (\d|noon|midnight|a few)|being moved|temporarily unavailable|something went wrong|bad gateway`,
			},
			shown: []sign{
				{`remote unpack failed`, .4},
				{`unsupported (http version|response code)|invalid content-length|header without colon|weird server reply|bad http content or transfer-encoding`, .6},
				{`did not send all necessary objects|^(error|fatal): protocol error: (bad (line length \d|pack header)|impossibly long line|unexpected)|expected (packfile|flush|ack/nak)[^\n]* (after|got)|unexpected remote reply|sent a broken content-type|capability exchange failed`, .6},
				{
					`requested url returned error: 5\d\d|http error 5\d\d|http/[\d.]+ 5\d\d|(http|error|curl).{0,20}\b50[0-4]\b`,
					.93,
				},
				{`(upload-pack|receive-pack): (command )?not found`, .95},
				{`remote end hung up unexpectedly`, .3},
				{`requested url returned error: 4(00|05|06)`, .3},
				{`^remote: [^\n]*: hg: (command )?not found`, .9},
				{
					`connect failed: open failed`,
					.88,
				}, // the host lets nothing be run
				{
					`detected dubious ownership[^\n]*\n([^\n]+\n)*[^\n]*could not read from remote`,
					.6,
				}, // its git, of its folder
				{bare, .3},
				{`bad line length character`, .4},
			},
			unless: `^([^r\n]|r[^e\n])[^\n]*(git|ssh|hg|nc): command not found|^(git|ssh|hg|nc): command not found|credential-\S+: command not found|no space left`,
		}},
}

// permissionCauses are those for which reading works and writing does not.
var permissionCauses = []entry{
	{ReadOnlyAccount, Permission, "This account may read the repository, but not write to it.", Administrator,
		"Ask the owner of REPO on HOST to give ACCOUNT write access. A new key would change nothing.", "reading",
		signs{
			words: []string{
				`(do not|don.t|no|not have|without|lack) .{0,30}(permission|write access|push access)|not (allowed|permitted|authorized) to (push|write|upload)|(push|write) access .{0,30}(not|denied|required)|pushing .{0,30}not allowed|insufficient permission.{0,30}(push|write|repo)|may (only )?read\b.{0,80}\bnot write|read.only access|\bw any \S+ \S+ denied|denied for writing`,
			},
			shown: []sign{
				{`permission to \S+ denied to \S+`, .45},
				{`requested url returned error: 403|http error 403|403 forbidden|abort: authorization failed`, .36},
				{`^remote: (permission|access) denied`, .5},
				{`\(prohibited by \S+: not permitted`, .5},
				{`could not lock repository \S+: permission denied`, .6},
			},
			unless: `deploy key|archived|adding an object|protected branch|permission to (view|read|see)`,
		}},
	{ReadOnlyKey, Permission, "The key is registered for reading only.", You,
		"Withdraw the key and register it for writing, or use another key.", "host says",
		signs{
			words: []string{`deploy key|(key|ssh key).{0,60}(read.?only|reading only|marked as read|only (for )?read)`},
		}},
	{RepositoryFrozen, Permission, "The repository is frozen: nobody may write to it.", Administrator,
		"Nobody can push to it while it is frozen. Ask the owner of REPO on HOST whether it should be.", "host says",
		signs{
			words:  []string{`archived|is frozen|(repository|project) .{0,40}(locked|read.?only)|frozen`},
			unless: `key .{0,60}read.?only|file system`,
		}},
	{BranchProtected, Permission, "A rule of the host refuses changes to this branch.", Administrator,
		"Push to a branch of your own and ask for it to be merged, or ask the owner of REPO to change the rule.", "host says",
		signs{
			words: []string{
				`protected branch|branch .{0,40}(is )?protected|^remote: \S+ is protected\b|deletion (of .{0,40})?prohibited|denying (ref deletion|non-fast-forward)|cannot (force.?push|push) to (this|a protected|the) ?branch|changes must be made through|not allowed to (force )?push (code )?to (protected|this) branch|refusing to delete the (current|default) branch`,
			},
		}},
}
