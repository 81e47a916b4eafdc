package causes

// otherCauses have nothing to do with signing in. They are told plainly, so that nobody makes a new key for them.
var otherCauses = []entry{
	{BranchUnborn, Beyond, "Nothing is committed yet, so there is no branch to push.", You,
		"Commit something first.", "",
		signs{
			shown: []sign{
				{`does not have any commits yet|branch yet to be born|no commits yet`, .95},
				{`src refspec refs/heads/\S+ does not match any`, .85},
				{`src refspec \S+ does not match any`, .3},
			},
			tell: "git log says whether anything is committed.",
		}},
	{BranchDetached, Beyond, "No branch is checked out here, so git does not know what to push.", You,
		"Create a branch here: git switch --create NAME.", "",
		signs{
			shown:  []sign{{`not currently on a branch|detached HEAD`, .95}},
			unless: `note: switching to|you are in 'detached`,
		}},
	{BranchUntracked, Beyond,
		"This branch has no upstream branch, so git does not know where to push or pull.", You,
		"Set it once: git push --set-upstream REMOTE BRANCH.", "",
		signs{
			shown: []sign{
				{`push\.default is "nothing"|is not the upstream of\s+your current branch`, .86},
				{
					`has no upstream branch|no tracking information|upstream branch of your current branch does not match|multiple upstream branches|push creates new remote branch`,
					.9,
				},
			},
		}},
	{
		BranchClash,
		Beyond,
		"One branch's name blocks another's: NAME and NAME/MORE cannot both exist.",
		You,
		"Rename one of them, or delete it. To drop branches that the host no longer has: git remote prune REMOTE.",
		"",
		signs{
			shown: []sign{
				{`try running\s+\'git remote prune`, .9},
				{`exists; cannot create|directory file conflict|unable to resolve reference \S+: not a directory`, .95},
			},
		},
	},
	{CommitMissing, Beyond, "The requested commit is not on the host.", You,
		"Ask whoever made it to push it. For a submodule: push the submodule first.", "",
		signs{
			shown: []sign{
				{
					`not our ref|did not contain [0-9a-f]{7,}|unadvertised object|direct fetching of that commit failed`,
					.95,
				},
				{`abort: unknown revision \'[0-9a-f]{12,}`, .7},
			},
		}},
	{HistoryDiverged, Beyond, "The host has commits that are not here, or the two histories do not fit together.", You,
		"Fetch, then rebase or merge: git pull --rebase, or git merge.", "",
		signs{
			shown: []sign{
				{
					`updates were rejected|\(non-fast-forward\)|\(fetch first\)|\(stale info\)|\(needs force\)|refusing to merge unrelated|not possible to fast-forward|divergent branches|automatic merge failed|merge conflict|^CONFLICT|fix conflicts|unmerged (files|paths)|you have not concluded your merge|creates? new remote head|repository is unrelated|already exists\)$|would clobber existing tag`,
					.95,
				},
			},
			unless: `pre-receive hook|hook declined`,
		}},
	{ChangesInTheWay, Beyond, "Uncommitted changes here would be overwritten.", You,
		"Commit them, or stash them: git stash.", "",
		signs{
			shown: []sign{
				{
					`would be overwritten by (merge|checkout|rebase|pull)|uncommitted changes|cannot (pull|rebase).*: (you have|your index)|please commit (your changes )?or stash|unstaged changes`,
					.95,
				},
			},
		}},
	{SigningFailed, Beyond, "git is configured to sign commits, and the program or the key for that does not work.", You,
		"Check user.signingKey, and gpg.program or gpg.format in git's config. To commit once without a signature: git commit --no-gpg-sign.", "",
		signs{
			shown: []sign{
				{
					`failed to sign the data|signing failed: |either user\.signingkey or|user\.signingkey needs|skipped ".*": no secret key`,
					.9,
				},
				{`failed to write commit object|unable to sign the tag`, .5},
			},
			unless: `cannot run gpg`,
		}},
	{HookHere, Beyond, "A hook of this repository refused.", You,
		"Read its message above. It is in the repository's hooks folder.", "",
		signs{
			shown: []sign{
				{
					`cannot (exec|run|spawn) \S*hooks/|\.git/hooks/\S+|\b(pre-push|pre-commit|commit-msg|prepare-commit-msg)\b.{0,40}(hook|fail|exit)|hook.{0,20}(pre-push|pre-commit|commit-msg)|abort: (pre|pretxn)\S+ hook|^(pre-push|pre-commit|commit-msg): \S`,
					.88,
				},
			},
			unless: `remote: .*hook|pre-receive|update hook|was ignored`,
		}},
	{HookThere, Beyond, "A hook on the host refused.", Administrator,
		"Read its message above. If it is not clear, ask the owner of REPO.", "",
		signs{
			shown: []sign{
				{
					`pre-receive hook declined|update hook declined|\(hook declined\)|remote:.*hook (declined|failed|exited)|remote: .*\bhook\b.*(fail|reject|denied)|remote: abort: .*hook`,
					.86,
				},
			},
			unless: `protected branch|file size limit|secret|archived|exceeds|unsigned|not verified`,
		}},
	{DiskFull, Beyond, "The disk is full, here or on the host.", You,
		"Free some space. If the message comes from the host, tell whoever runs it.", "",
		signs{
			shown: []sign{
				{
					`no space left on device|disk quota exceeded|not enough (disk )?space|disk (is )?full|quota exceeded|(over|exceeded|exceeds) its (data|storage|disk) quota`,
					.97,
				},
				{`unable to create temporary object directory|unpacker error`, .3},
			},
		}},
	{MemoryShort, Beyond, "There is not enough memory, here or on the host.", You,
		"Close other programs, or fetch less at a time: git clone --depth 1 URL. If the message comes from the host, tell whoever runs it.", "",
		signs{
			shown: []sign{
				{
					`out of memory|malloc failed|mmap failed|cannot allocate memory|memory allocation failure|(pack-objects|index-pack|unpack-objects|git\S*) died of signal 9`,
					.95,
				},
			},
		}},
	{LockLeft, Beyond, "Another git is working in this repository, or one that was stopped left its lock behind.", You,
		"Wait for the other one. If there is none, remove the lock file that git names.", "",
		signs{
			shown: []sign{
				{
					`(index|shallow|config|HEAD|\w+)\.lock': File exists|another git process seems|cannot lock ref .*: is at|could not lock config file .*: file exists|waiting for lock on|lock held by|unable to get credential storage lock`,
					.95,
				},
			},
		}},
	{
		FilesOwner,
		Beyond,
		"Files of this repository cannot be written: they belong to another user, or the disk is read-only.",
		You,
		"Work as the user who owns them, or make them yours.",
		"",
		signs{
			shown: []sign{
				{
					`insufficient permission for adding an object|cannot open \S*FETCH_HEAD\S*: permission denied|could not create (work tree dir|leading directories|directory)\S* .*(permission denied|operation not permitted)|\.lock': (permission denied|read-only)|read-only file system|unable to (unlink|create|write|open)\b.*permission denied|could not lock config file.*permission|unable to append to .*permission denied|failed to (create|write).*permission denied|could not create leading directories|abort: permission denied|^abort: could not lock repository [^\n]*: permission denied`,
					.95,
				},
				{`unable to create temporary object directory|unpacker error`, .5},
				{`^remote: abort: could not lock repository [^\n]*: permission denied`, .7},
			},
			unless: `no space left|no such file or directory$`,
		},
	},
	{FolderInTheWay, Beyond, "The folder that the clone would create already exists.", You,
		"Clone into another folder, or change to this one and fetch.", "",
		signs{
			shown: []sign{
				{
					`already exists and is not an empty directory|destination '\S+' is not empty|path '\S+' already exists|create work tree dir '[^']*': file exists`,
					.98,
				},
			},
		}},
	{FileRefused, Beyond, "This system cannot store a file of the repository under its name.", You,
		"Ask the owner of REPO to rename it, or allow long paths: git config --global core.longpaths true.", "",
		signs{
			shown: []sign{
				{
					`file ?name too long|invalid path \'|unable to create file .*(invalid argument|too long)|case-insensitive filesystem`,
					.95,
				},
			},
		}},
	{RepositoryDamaged, Beyond, "Stored data of the repository is damaged.", You,
		"Check how far: git fsck. If everything was pushed, a fresh clone is quickest.", "",
		signs{
			shown: []sign{
				{
					`is corrupt|object file .* is empty|bad (tree |commit )?object|repository corruption on the remote side|bad signature|index file corrupt|inflate:|sha1 mismatch|packfile .* (is|cannot)|missing blob|broken link|unable to read tree|pack has \d+ unresolved|invalid sha1 pointer|integrity check failed`,
					.93,
				},
			},
			unless: `incorrect signature`,
		}},
	{HostRule, Beyond, "A rule of the host refuses what these commits contain.", You,
		"Read the host's words above, remove it from the commits, and push again.", "",
		signs{
			words: []string{
				`(exceeds|larger than|over|above) .{0,60}(limit|maximum|size|quota)|file size limit|too large|large files? detected|push (declined|rejected) due to|secrets? (detected|found)|contains? (a )?secrets?|push protection|commits? must .{0,30}(signed|verified|have)|(author|committer|e-?mail)( \S+){0,2} must|unsigned commit|(e-?mail|author|committer).{0,60}(not (verified|allowed|a member|recogni|match)|private|does not match|is not)|commit message .{0,40}(must|does not|not match)|refusing to update checked out branch|shallow update not allowed|must contain|missing \S+ in message footer`,
			},
			shown: []sign{
				{`remote: error: (refusing to|denying)|deleting the current branch|updating the current branch`, .7},
				{
					`(error|code|http|response|status):? 413\b|\[remote rejected\] .*\((branch is currently checked out|shallow update not allowed)`,
					.9,
				},
			},
			unless: `rate.?limit|filename too long|its (data|storage|disk) quota`,
		}},
	{ProgramOld, Beyond, "The program is too old for what it is asked to do.", You,
		"Update git, ssh or hg.", "",
		signs{
			shown: []sign{
				{`server is speaking an unknown protocol|does not support (shallow (clients|requests)|--(deepen|shallow)|this repository\'s object format)|mismatched algorithms: client|unknown object format .* specified by server|server does not support algorithm|uses newer protocol|unknown version of ssh protocol|incompatible mercurial client`, .82},
				{
					`unknown option|unknown repository (format|extension)|expected git repo version|unsupported (protocol|repository) version|unknown (switch|subcommand)|not a git command\. see|receiving end does not support|protocol major versions differ|requires (a newer|git version|features unknown)|repository requires features|unsupported version|needs newer version|unrecognized (option|argument)|unknown protocol version`,
					.82,
				},
			},
			unless: `'(remote|credential)-|'lfs' is not|credential-|usage: ssh|^ssh: unknown option`,
		}},
}
