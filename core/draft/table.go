package draft

// A want is one of our operations, and how hosts' own for it look. The table below is all that a draft knows of hosts.
type want struct {
	does    string
	methods []string
	noun    noun
	context context
	item    bool     // the path goes on behind the noun with one thing of the list
	ends    []string // or with one of these words
	lists   bool     // it has any number of results
	finds   []finding
	sends   []sending
}

// A context is what is before the noun in a path.
type context int

const (
	ofAccount context = iota // the account's own
	ofRepo                   // of one repository
	ofHost                   // of the host, or of everything
)

// A noun is what the last fixed part of a path must say: one main word, and others that may be beside it.
type noun struct {
	main, beside []string
}

// A finding is a value that an operation finds, and the plain names that hosts have for it, the best first.
type finding struct {
	ours  string
	names []string
	must  bool
}

// A sending is a value that an operation sends.
type sending struct {
	ours  string
	names []string
	must  bool
}

var (
	keyNoun = noun{[]string{"key", "sshkey", "publickey", "pubkey"},
		[]string{"ssh", "public", "user", "account", "authorized", "my", "authentication", "auth", "pub"}}
	repoKeyNoun = noun{keyNoun.main, append([]string{"deploy", "access", "repo", "repository", "project", "deployment"},
		keyNoun.beside...)}
	signingNoun = noun{append([]string{"signingkey"}, keyNoun.main...), []string{"ssh", "signing", "sign", "signature"}}
	tokenNoun   = noun{[]string{"token", "pat", "accesstoken", "apitoken", "pass"},
		[]string{"personal", "access", "api", "user", "my", "application", "app", "auth"}}
	repoNoun = noun{[]string{"repo", "repository", "project", "tree"},
		[]string{"git", "my", "user", "code", "source", "own", "owned"}}
	whoNoun = noun{[]string{"user", "me", "account", "self", "profile", "whoami", "current", "identity", "myself"},
		[]string{"my", "get", "authenticated", "info", "userinfo"}}
	hostNoun = noun{[]string{"meta", "hostkey", "knownhost", "fingerprint", "key"},
		[]string{"host", "ssh", "server", "public", "known", "info"}}
)

var (
	idNames   = []string{"id", "keyid", "uuid", "uid", "gid", "pk", "number", "key.id", "slug", "name"}
	lineNames = []string{"key", "publickey", "sshkey", "pubkey", "line", "content", "value", "body", "text",
		"openssh", "authorizedkey", "keydata", "rawkey"}
	kindNames  = []string{"algorithm", "keytype", "type", "kind", "keyalgorithm", "algo"}
	blobNames  = []string{"blob", "base64", "encodedkey", "keyblob", "data", "keybody", "encoded"}
	titleNames = []string{"title", "name", "label", "comment", "displayname", "description", "note"}
	endNames   = []string{"expiresat", "expires", "expirydate", "expiredate", "expiration",
		"expirationdate", "expireson",
		"validuntil", "until", "ends", "endsat", "validto", "expiry", "expiretime", "expiresdate", "enddate"}
	usedNames   = []string{"lastusedat", "lastused", "lastuseddate", "lastuse", "usedat", "lastaccess", "lastaccessed"}
	madeNames   = []string{"createdat", "created", "createddate", "createdon", "creationdate", "made", "dateadded"}
	accessNames = []string{"readonly", "canpush", "canwrite", "writable", "writeaccess", "permission", "access", "mode"}
	scopeNames  = []string{"scopes", "scope", "permissions", "abilities", "rights", "grants", "privileges", "may"}
	loginNames  = []string{"login", "username", "userlogin", "account", "accountname", "handle", "nick", "nickname",
		"slug", "name", "user.login", "user.username", "user.name", "account.name", "account.login", "whoami"}
	secretNames = []string{"token", "sha1", "accesstoken", "secret", "rawtoken", "plaintext", "plaintexttoken", "value",
		"tokenvalue", "plain", "secretvalue", "apitoken", "key", "pass"}
	spanNames = []string{"days", "expiresindays", "lifetimedays", "validdays", "ttldays", "expirydays"}
	tickNames = []string{"expiresin", "ttl", "lifetime", "seconds", "expiresinseconds", "duration", "ttlseconds"}
	pathNames = []string{"fullname", "pathwithnamespace", "fullpath", "namewithowner", "fullslug", "path",
		"fullnameslug",
		"repository", "slug", "name"}
	sshNames = []string{"sshurl", "sshurltorepo", "cloneurlssh", "sshcloneurl", "urlssh", "clonessh", "gitsshurl",
		"clone.ssh", "urls.ssh", "links.ssh", "clonelinks.ssh", "ssh"}
	httpsNames = []string{"cloneurl", "httpurltorepo", "httpsurl", "httpscloneurl", "cloneurlhttps", "urlhttps",
		"httpsurltorepo", "clonehttps", "clone.https", "clone.http", "urls.https", "urls.http", "links.https", "https",
		"httpurl"}
	pushNames = []string{"permissions.push", "permissions.write", "canpush", "canwrite", "access",
		"permission", "role"}
	visibilityNames = []string{"private", "isprivate", "visibility", "public", "ispublic"}
	frozenNames     = []string{"archived", "isarchived", "frozen", "locked"}
	branchNames     = []string{"defaultbranch", "mainbranch", "mainbranch.name", "head", "branch"}
	aboutNames      = []string{"description", "about", "summary", "details"}
)

// endSendings are the ways in which hosts are sent an end.
var endSendings = []sending{{"until", endNames, false}, {"days", spanNames, false}, {"seconds", tickNames, false}}

var (
	keyFindings = []finding{{"id", idNames, true}, {"line", lineNames, true}, {"title", titleNames, false},
		{"until", endNames, false}, {"used", usedNames, false}, {"access", accessNames, false}}
	keySendings = append([]sending{{"title", titleNames, false}, {"line", lineNames, true},
		{"access", accessNames, false}}, endSendings...)
	repoFindings = []finding{{"path", pathNames, true}, {"ssh", sshNames, false}, {"https", httpsNames, false},
		{"access", pushNames, false}, {"visibility", visibilityNames, false}, {"frozen", frozenNames, false},
		{"branch", branchNames, false}, {"about", aboutNames, false}}
	tokenFindings = []finding{{"id", idNames, true}, {"label", titleNames, false}, {"until", endNames, false},
		{"scopes", scopeNames, false}, {"used", usedNames, false}, {"made", madeNames, false}}
	shownFindings = []finding{{"id", idNames, false}, {"label", titleNames, false}, {"until", endNames, false},
		{"scopes", scopeNames, false}}
	issuedFindings = []finding{{"token", secretNames, true}, {"id", idNames, false}, {"until", endNames, false},
		{"scopes", scopeNames, false}}
	tokenSendings = append([]sending{{"label", titleNames, false}, {"scopes", scopeNames, false}}, endSendings...)
)

// wants is the table, in the order in which descriptions have operations.
var wants = []want{
	{does: "who", methods: []string{"GET"}, noun: whoNoun, context: ofAccount,
		finds: []finding{{"account", loginNames, true}, {"id", idNames[:6], false}}},
	{does: "host-keys", methods: []string{"GET"}, noun: hostNoun, context: ofHost, lists: true,
		finds: []finding{{"line", append([]string{"$"}, lineNames...), false},
			{"fingerprint", []string{"fingerprint", "sha256"}, false}}},
	{does: "list-keys", methods: []string{"GET"}, noun: keyNoun, context: ofAccount, lists: true, finds: keyFindings},
	{does: "add-key", methods: []string{"POST"}, noun: keyNoun, context: ofAccount, finds: keyFindings[:1],
		sends: keySendings},
	{does: "remove-key", methods: []string{"DELETE"}, noun: keyNoun, context: ofAccount, item: true},
	{does: "list-repo-keys", methods: []string{"GET"}, noun: repoKeyNoun, context: ofRepo, lists: true,
		finds: keyFindings},
	{does: "add-repo-key", methods: []string{"POST"}, noun: repoKeyNoun, context: ofRepo, finds: keyFindings[:1],
		sends: keySendings},
	{does: "remove-repo-key", methods: []string{"DELETE"}, noun: repoKeyNoun, context: ofRepo, item: true},
	{does: "list-signing-keys", methods: []string{"GET"}, noun: signingNoun, context: ofAccount, lists: true,
		finds: keyFindings},
	{does: "add-signing-key", methods: []string{"POST"}, noun: signingNoun, context: ofAccount, finds: keyFindings[:1],
		sends: keySendings},
	{does: "remove-signing-key", methods: []string{"DELETE"}, noun: signingNoun, context: ofAccount, item: true},
	{does: "issue-token", methods: []string{"POST"}, noun: tokenNoun, context: ofAccount, finds: issuedFindings,
		sends: tokenSendings},
	{does: "list-tokens", methods: []string{"GET"}, noun: tokenNoun, context: ofAccount, lists: true,
		finds: tokenFindings},
	{does: "show-token", methods: []string{"GET"}, noun: tokenNoun, context: ofAccount, ends: selfWords,
		finds: shownFindings},
	{does: "renew-token", methods: []string{"POST", "PUT"}, noun: tokenNoun, context: ofAccount, item: true,
		ends: []string{"rotate", "renew", "refresh", "regenerate", "roll"}, finds: issuedFindings,
		sends: tokenSendings},
	{does: "revoke-token", methods: []string{"DELETE"}, noun: tokenNoun, context: ofAccount, item: true},
	{does: "list-repos", methods: []string{"GET"}, noun: repoNoun, context: ofAccount, lists: true,
		finds: repoFindings},
	{does: "show-repo", methods: []string{"GET"}, noun: repoNoun, context: ofRepo, item: true, finds: repoFindings},
	{does: "add-repo", methods: []string{"POST", "PUT"}, noun: repoNoun, context: ofAccount, finds: repoFindings,
		sends: []sending{{"name", []string{"name", "path", "slug", "reponame", "repository", "title"}, true},
			{"visibility", visibilityNames, false}, {"branch", branchNames, false}, {"about", aboutNames, false}}},
}

var selfWords = []string{"self", "current", "me", "this"}

// Words of a path that make it somebody else's, or something else.
var (
	othersWords = []string{"org", "orgs", "organization", "organisation", "admin", "enterprise", "group", "team",
		"company", "site", "system", "instance", "installation", "runner", "webhook", "hook", "impersonation"}
	otherKeys = []string{"gpg", "pgp", "ssl", "tls", "hmac", "license", "secret", "encryption",
		"certificate", "feature",
		"jwk", "webauthn", "fido", "passkey", "variable", "cache", "idempotency"}
	otherTokens = []string{"oauth", "refresh", "registration", "deploy", "device", "verify", "csrf", "push", "reset",
		"invitation", "feed", "trigger", "job", "pipeline", "upload", "session", "login", "jwt", "introspect", "id"}
	accountWords = []string{"user", "me", "account", "self", "current", "profile", "my", "setting", "preference", "ssh",
		"security", "auth", "authenticated", "person", "people", "credential", "authentication",
		"application", "whoami",
		"myself", "api", "rest", "personal", "access"}
	repoWords = repoNoun.main
)

// Names of parameters in a path.
var (
	userNames = []string{"user", "username", "login", "account", "accountname", "selecteduser", "userslug",
		"userlogin", "name"}
	userIDs    = []string{"userid", "accountid", "uid", "id", "uuid"}
	ownerNames = []string{"owner", "org", "organization", "namespace", "workspace", "group", "projectkey", "username",
		"user", "account", "ownername", "workspaceslug", "group_id", "project", "login"}
)

// Thresholds of how sure a draft is, from 0 to 1: above the first an operation is written, above the second as a
// comment, and below that it is left out.
const (
	written = 0.6
	doubted = 0.35
)

// Weights of what speaks for a request being the one that is wanted. They add up to 1.
const (
	forPath   = 0.45 // method, noun and context are the wanted ones
	forFinds  = 0.30 // what it must find is in the reply
	forSends  = 0.15 // what it must send has a place in the body
	forExtras = 0.10 // and what it may find or send besides
)

// What speaks against it.
const (
	againstDeprecated = 0.15
	againstStranger   = 0.25 // a word or a parameter in the path that nothing explains
	againstRequired   = 0.20 // a required field or parameter that nothing fills
	againstSingle     = 0.15 // the document says that one thing comes back where a list is wanted
	againstIndirect   = 0.05 // by way of a lookup, or with an account in the path
)
