package causes

// addressCauses are those for which a URL leads nowhere, or elsewhere.
var addressCauses = []entry{
	{URLMalformed, Address, "This cannot be read as a clone URL.", You,
		"Copy the clone URL again. It looks like git@NAME:GROUP/PROJECT.git, or ssh://git@NAME/GROUP/PROJECT.", "wrong",
		signs{
			shown: []sign{
				{
					`unable to find remote helper for|unsupported url scheme|bad (scheme|hostname|login part|ipv6 address)$|(no (host|scheme) part in the|url has no scheme)|invalid remote service path|couldn\'t parse location|unsupported url component|potentially unsafe url`,
					.6,
				},
				{`no path specified; see`, .95},
				{`strange (hostname|pathname|port)\b`, .95},
				{`URL using bad/illegal format|URL rejected: (no host|bad hostname|bad scheme)`, .9},
				{
					`(unable to find remote helper for|remote helper|protocol) '(htt?p?s?|ttps?|hhttps?|hpts?|httsp|shh|sssh|htps|htttps?|sh|git@[^']*|gti|shs)'( not found| is not supported)?$`,
					.92,
				},
				{`protocol '[a-z]+' is not supported`, .75},
				{`'remote-(htp|hhttp|httsp|sssh|shh|htps|htttp)s?' is not a git command`, .92},
				{`resolve hostname (https?|ssh|git|git@[^ ]*|\[?[^ ]*/[^ ]*): `, .92},
				{`resolve hostname [^ :]+:[^ :]*[a-z][^ :]*: `, .9},
				{`repository '[^'/:@ ]+\.[^'/ ]+/[^']+' does not exist`, .9},
				{`bad port number|Bad port\b`, .85},
				{`'[^':]+@[^':/]+/[^']*' (does not exist|does not appear)`, .95},
				{`^abort: repository \S+@\S+ not found`, .93},
				{`unsupported proxy syntax|unable to parse url`, .6},
			},
		}},
	{URLCharacters, Address, "The URL contains characters that do not belong in one.", You,
		"Give the clone URL alone, without a secret, spaces, quotes or line breaks: URL", "wrong",
		signs{
			shown: []sign{
				{
					`illegal characters found in URL|malformed input to a URL function|URL rejected: (malformed input|port number was not|illegal)`,
					.93,
				},
				{`port number (ended with|was not a decimal)`, .9},
				{`url contains a newline|prohibited newline|credential url cannot be parsed|carriage return`, .95},
				{`^fatal: too many arguments`, .7},
				{`unable to access '[^']*\s[^']*'|://[^/\s']*@[^/\s']*@`, .93},
				{`(username|hostname) contains invalid characters`, .95},
				{"(repository|remote helper for|protocol) '[<\\\"‘“`’ ]", .93},
				{`'remote-[^a-z']`, .93},
				{"repository '[^']*([>\\\"”’`\\s]|%20)[^']*' (does not exist|not found)", .9},
				{`(repository|resolve host(name)?:?) '?(\$|git clone|clone )`, .92},
			},
		}},
	{URLIsAPage, Address, "This is the URL of a web page, not of a repository.", You,
		"Use the clone URL: URL", "page",
		signs{
			shown: []sign{
				{
					`https?://[^' ]+/[^/' ]+/[^/' ]+/(-/)?(tree|blob|src|files?|commits?|branches|wiki|issues|browse|raw|merge_requests|pulls?|releases|settings)(/[^' ]*)?'? (not found|not valid|/info/refs)`,
					.93,
				},
				{
					`https?://[^' ]+/(-/)?(tree|blob|src/branch|browse|commits?|files|raw)/[^' ]*(/info/refs)?'? ?(not found|not valid)`,
					.93,
				},
			},
		}},
	{
		URLPortInShortForm,
		Address,
		"In this short form of a URL, the number after the colon is part of the path, not a port.",
		You,
		"Write the URL in the form that has room for a port: URL",
		"path",
		signs{
			shown: []sign{
				{`'/?\d{2,5}/[^']+' (does not appear|not found|not a git)`, .9},
				{`(repository|project|path) '?/?\d{2,5}/\S+ .*(not found|does not exist)`, .85},
			},
		},
	},
	{URLTransportRefused, Address, "The host does not accept this unencrypted protocol.", You,
		"Use the clone URL over SSH: URL", "scheme",
		signs{
			words: []string{
				`(takes|accepts|supports|allows|requires|use) https( only|\b)|only (over |via |by )?https|(plain|unencrypted|insecure) http\b.{0,40}(not|no longer|disabled|refused)`,
			},
			shown: []sign{
				{`unauthenticated git protocol`, .95},
				{`^remote: [^\n]*(takes|accepts|supports|use|requires) https( only|\b)[^\n]*\n[^\n]*'http://`, .9},
				{`protocol "?http"? (not supported|disabled)`, .85},
				{`^(fatal: |error: )?unsupported url protocol`, .5},
				{`unable to connect to \S+:?$`, .6},
				{`port 9418`, .35},
				{`\S+\[0: [^\]]+\]: errno=`, .75},
				{`refus\w+ to (send|work with) credentials? over unencrypted|unencrypted http is not`, .9},
			},
		}},
	{URLAliasUnknown, Address, "The URL names the host by a short name that this workstation does not know.", You,
		"Use the host's full name in the URL, or add a Host block for the short name to ssh config.", "short name",
		signs{
			shown:  []sign{{`resolve hostname [^. :]+: `, .8}},
			unless: resolverFails,
			tell:   "The name has no dot in it: look whether another workstation's ssh config has a block for it.",
		}},
	{RemoteMissing, Address, "This repository has no such remote.", You,
		"Name a remote that exists, or add this one with the clone URL: git remote add NAME URL.", "asked for",
		signs{
			shown: []sign{
				{`no remote configured to list refs|^fatal: remote \S+ has no configured url|bad repository \'`, .93},
				{`no such remote( or remote group)?:? `, .95},
				{`no remote repository specified`, .95},
				{`no configured push destination`, .95},
				{`'(origin|upstream|fork|[A-Za-z0-9_-]+)' does not appear to be a git repository`, .93},
				{
					`abort: (default )?repository (default|default-push)? ?not (configured|found)|abort: repository default(-push)? not found`,
					.95,
				},
				{`'origin' is not a git repository`, .9},
			},
		}},
	{RepositoryNone, Address, "This folder is not inside a repository, so it has no remote.", You,
		"Go into the folder of a repository, or give a clone URL.", "folder",
		signs{
			shown: []sign{
				{`invalid gitfile format|no path in gitfile`, .85},
				{`not a git repository \(or any`, .97},
				{`^(fatal: )?not a git repository: `, .9},
				{`abort: no repository found in`, .97},
				{`not in a git directory|must be run in a work tree`, .92},
				{`abort: there is no mercurial repository here`, .9},
			},
		}},
	{URLRewritten, Address, "An insteadOf rule in git's config changes the URL, and the new one does not work.", You,
		"Remove the insteadOf rule from git's config, or correct it.", "rule",
		signs{}},
	{URLSecret, Address, "The URL contains a secret, and the host does not accept it.", You,
		"Remove the secret from the URL: git then asks its credential helpers.", "url",
		signs{
			shown: []sign{
				{`uses plaintext credentials`, .85},
				{`https?://[^/ @:]+:[^/ @]+@[^ ]+.*(authentication failed|403|401)`, .45},
				{`authentication failed for 'https?://[^/ @:']+:[^/ @']+@`, .6},
			},
		}},
	{URLUserMissing, Address,
		"The URL names no user, so ssh sends your login name, or one whom the host does not know.", You,
		"Put the host's user into the URL: URL", "sent",
		signs{
			shown:  []sign{{`^(remote: )?[^@ ]+@[^: ]+: permission denied \([^)]*publickey`, .6}},
			unless: `\b(git|hg|svn)@[^: ]+: permission denied`,
			tell:   "The name before the @ is your login name here: the URL names no user.",
		}},
}
