package causes

// signInCauses are those for which the host does not let us in.
var signInCauses = []entry{
	{
		SecretMissing,
		SignIn,
		"The host requires signing in, and git found no token.",
		You,
		"Get a token for HOST.",
		"asked",
		signs{
			shown: []sign{
				{
					`could not read (username|password)|terminal prompts disabled|http authorization required|cannot prompt because (user interactivity|terminal)|unable to get password|told us to quit|authentication required but no callback|failed to acquire username/password|no credentialsprovider`,
					.8,
				},
				{`abort: authorization failed`, .3},
				{`^\S+: https?://\S+: not authorized$`, .4},
				{
					`cannot autolaunch d-bus|unable to persist credentials|authentication required: repository not found`,
					.5,
				},
				{`batch response: .*auth(entication|orization)|lfs.*authorization error`, .4},
			},
		},
	},
	{HeaderOverrides, SignIn,
		"A header in git's config signs in before any credential helper, and the host rejects it.", You,
		"Remove the header from git's config.", "header",
		signs{shown: []sign{{`duplicate (header|authorization)`, .93}}}},
	{PasswordRefused, SignIn, "git sent an account password, and the host accepts only tokens.", You,
		"Get a token for HOST and use it in place of the password.", "host says",
		signs{
			words: []string{
				`passwords? (authentication|are|is|sign-?in)?.{0,80}(not (taken|supported|allowed|accepted)|no longer|was removed|removed|disabled|deprecated)`,
				`use an? ?(\S+ ){0,3}(access token|app(lication)?[- ](specific )?password|token) (instead|in place)`,
				`(basic auth\w*|account password)\S* .{0,60}(disabled|not allowed|no longer|not supported)`,
			},
			shown:  []sign{{`authentication failed for`, .15}, {`must use an? ?(\S+ ){0,2}(access )?token`, .5}},
			unless: `permission denied.*password\)|terminal prompts disabled`,
		}},
	{TokenEnded, SignIn, "The token has expired.", You,
		"Get a new token for HOST.", "host says",
		signs{
			words: []string{
				`(token|pass|credential|password)s?[^.]{0,60}(has |have |is |was )?(ended|expired|\bover\b|no longer valid)`,
				`expired (\S+ )?(token|credential)`,
				`token_expired|invalid_token.*expired`,
			},
			shown:  []sign{{`authentication failed for`, .12}},
			unless: `incorrect or has expired|password change required|no tty available`,
		}},
	{SecondStepNeeded, SignIn, "The host requires a second factor after the key, which git cannot give.", Host,
		"Ask whoever runs HOST how git should sign in.", "host wants",
		signs{
			words: []string{
				`two-?factor|\b2fa\b|\bmfa\b|second (step|factor)|multi-?factor|single sign-?on|\bsso\b|\botp\b|one-time (password|code)|saml`,
			},
			shown: []sign{{`authenticated (using "?publickey"? )?with partial success|verification code`, .93}},
		}},
	{AddressNotAllowed, SignIn, "The host does not accept connections from this workstation's network.",
		Administrator,
		"Use the network that HOST allows, often a VPN, or ask whoever runs HOST to allow this one.", "host says",
		signs{
			words: []string{
				`\b(ip|address|network|location)\b.{0,60}(not (allowed|permitted|on the allow|in the allow)|denied|blocked|forbidden|\ballow ?list)`,
				`\ballow ?list`,
				`only .{0,40}(vpn|internal network|corporate network)`,
				`(connect|are) (to|on|via) the vpn`,
			},
		}},
	{AccountBlocked, SignIn, "The host says that this account may not sign in.", Host,
		"Ask whoever runs HOST why, and quote the host's words above.", "host says",
		signs{
			words: []string{
				`account .{0,60}(disabled|blocked|suspended|locked|not (currently )?available|deactivated|on hold|banned|inactive)`,
				`(user|you) (is|are|has been|have been) (blocked|disabled|suspended|deactivated|banned)`,
			},
			shown: []sign{
				{`bad line length character: (this|your|thi)\b`, .5},
				{`not allowed because|account has expired|user account has`, .85},
				{`password (has|change) (expired|required)`, .6},
			},
		}},
	{TokenMisplaced, SignIn, "What git sent as a token does not belong to this host, or was sent with the wrong user name.", You,
		"Get a token for HOST.", "sent",
		signs{
			words: []string{`(username|user name) .{0,40}(must|should) be`},
			shown: []sign{{`authentication failed for`, .06},
				{`could not read password for 'https?://[a-z]*[-_][a-z0-9_-]*\d[a-z0-9_-]*@`, .7},
				{`could not read password for 'https?://[\w-]*\d[a-z]+\d+[a-z][\w-]*@`, .88}},
		}},
	{TokenUnknown, SignIn, "The host does not know the token: it is mistyped, incomplete or revoked.", You,
		"Get a new token for HOST.", "sent",
		signs{
			words: []string{
				`bad credentials|invalid (username or (password|token)|credentials|token|access token)|token .{0,40}(invalid|not (known|found|recognized|valid)|revoked)|revoked token`,
			},
			shown: []sign{
				{`login denied$|access denied to remote resource`, .5},
				{`authentication failed for|authentication failed$|logon failed|login failed`, .5},
				{
					`requested url returned error: 401|http error 401|http/[\d.]+ 401|401 unauthorized|abort: authorization failed`,
					.5,
				},
				{`basic: access denied|incorrect or has expired|too many redirects or authentication replays`, .55},
				{`^\S+: https?://\S+: not authorized$`, .5},
				{`batch response: .*auth(entication|orization)|lfs.*authorization error`, .45},
			},
			unless: `password authentication|not supported|removed`,
			tell:   "A new token works where the old one does not.",
		}},
	{TokenPurposeMissing, SignIn, "The token is valid, but lacks permission for this.", You,
		"Get a token for HOST that has the permission.", "signed in as",
		signs{
			words: []string{
				`insufficient.?scope|without .{0,12}scope|(token|scope)s? .{0,60}(scope|not (allow|permit|authori)|lack|missing|insufficient|does not have)|resource not accessible|required scopes?|token (does not|may not|cannot) (cover|reach|access|include)|(token|credential) .{0,50}(for reading only|read.only)`,
			},
			shown:  []sign{{`requested url returned error: 403|http error 403|403 forbidden`, .38}},
			unless: `permission to \S+ denied|archived|rate limit|write access`,
			tell:   "The page of the token at the host says what it may do.",
		}},
	{SignedInPage, SignIn, "A web page answers where a repository was expected, often a sign-in page.", You,
		"Use the clone URL from the host's web page. On a network with a sign-in page of its own, sign in there first.", "answered",
		signs{
			shown: []sign{
				{`redirect: ?\S*(sign[-_]?in|log[-_]?in|/auth|/sso|users/sign|session)`, .95},
				{`not valid: is this a git repository`, .35},
				{`<!doctype html|<html`, .5},
				{`bad line length character: <`, .9},
				{`redirect\S* to \S*(sign_?in|log_?in|captive|portal)`, .9},
			},
		}},
	{KeysTooMany, SignIn, "The host closes the connection before ssh tries the right key: too many others come first.", You,
		"Make ssh config for HOST name the one key.", "not tried",
		signs{shown: []sign{{`too many authentication failures`, .96}}}},
	{KeyNotOffered, SignIn, "The right key is here, but ssh config keeps ssh from offering it.", You,
		"Make ssh config for HOST use it.", "kept back",
		signs{shown: []sign{{denied, .1}}, unless: `offering (\S+ )?public key`,
			tell: "ssh -v says which keys it offers."}},
	{KeyKindRefused, SignIn, "The host no longer accepts this type of key or of signature.", You,
		"Make a key of a newer type for HOST, and register it.", "offered",
		signs{
			words: []string{
				`\b(key|dsa|dss|sha-?1|rsa)\b.{0,60}(no longer (supported|accepted|allowed)|too (short|small|weak)|not supported|deprecated)|unsupported (key|signature)`,
			},
			shown: []sign{
				{
					`no mutual signature|load (pub)?key "?[^"\n]+"?: invalid key length|key type \S+ not in|skipping (ssh-\S+|rsa|dsa) key|unsupported key type|signature algorithm ssh-rsa not in`,
					.94,
				},
				{denied, .05},
			},
			unless: `unable to negotiate|certificate (problem|key)|(ca|ee) (certificate )?key`,
		}},
	{KeyEnded, SignIn, "The key's registration has expired, or the host revoked it.", You,
		"Register a new key with HOST.", "host says",
		signs{
			words:  []string{`key.{0,50}(expired|has ended|was revoked|is revoked)|(expired|revoked) key`},
			shown:  []sign{{`(public|ssh|deploy) key .*expired|key has expired`, .3}},
			unless: `host key|ssl|tls|certificate`,
		}},
	{CertificateEnded, SignIn, "Your SSH certificate has expired.", You,
		"Get a new certificate for this key from whoever signed it.", "valid until",
		signs{
			shown: []sign{{`certificate (invalid|.*not valid): expired`, .5},
				{`certificate .*expired.*user|key .*certificate .*expired|user certificate .*expired`, .85}},
			unless: `host key|ssl|tls`,
		}},
	{CertificateNotYet, SignIn, "Your SSH certificate is not valid yet.", You,
		"Check this workstation's clock. If it is right, wait, or get another certificate from whoever signed this one.", "valid from",
		signs{shown: []sign{{`certificate (invalid|.*not valid): not yet valid`, .5}}, unless: `host key|ssl|tls`}},
	{CertificateOtherUser, SignIn,
		"Your SSH certificate does not name the user as whom ssh signs in.", You,
		"Sign in as a user whom the certificate names, or get one that names this user from whoever signed it.", "valid for",
		signs{shown: []sign{{`certificate invalid: name is not a listed principal|certificate lacks principal`, .5}},
			unless: `host key`}},
	{CertificateAuthorityUnknown, SignIn,
		"The host accepts neither your key nor the CA that signed its certificate.", Host,
		"Ask whoever runs HOST whether it accepts the CA that signed the certificate.", "signed by", signs{}},
	{KeyNotRegistered, SignIn, "The host does not know any of the offered keys.", You,
		"Register the key with HOST.", "offered",
		signs{
			words: []string{
				`unknown (public |ssh )?key\b|key .{0,30}\b(is not|isn't|not) (known|registered|recogni[sz]ed)|add it to your account`,
			},
			shown: []sign{
				{denied, .5},
				{`no more authentication methods available|cannot log in at \S+:\d+`, .75},
				{`^no supported authentication methods|authentication failed\.?$|auth fail\b`, .3},
				{`offering (\S+ )?public key`, .8},
				{`unable to authenticate, attempted methods \[none publickey|server sent: publickey`, .8},
				{`attempted \S*agent authentication|no authentication available`, .35},
			},
			unless: `server accepts key|no such identity|identity file \S+ not accessible|load key|unprotected|too many authentication|no mutual signature|agent refused|agent admitted|incorrect passphrase`,
			tell:   "ssh -v shows which keys were offered; compare them with those on the host's page.",
		}},
	{SignInOtherWay, SignIn, "The host does not allow sign-in by key.", Host,
		"Use HTTPS with a token, or ask whoever runs HOST to allow sign-in by key.", "host offers",
		signs{
			words: []string{`sftp (connections )?only|only (allows )?sftp|limited to sftp`},
			shown: []sign{
				{`permission denied \((password|keyboard-interactive|gssapi|hostbased|none)[^)]*\)`, .75},
				{`no supported authentication methods available`, .6},
			},
			unless: `permission denied \([^)]*publickey|server sent: publickey`,
		}},
	{
		KeyOtherAccount,
		SignIn,
		"The key is registered for another account, or for another purpose, than the one needed.",
		You,
		"Use a key that is registered for this.",
		"signed in as",
		signs{
			words: []string{
				`(backup|deploy|rsync|borg|mirror|restic|sftp|upload|monitor\w*)[ -]only\b|\bonly (rsync|backups?|mirroring|sftp) `,
				`commands?:? ('[^']*' )?(is |are )?(not (permitted|allowed|supported here)|rejected|denied)( for this key| by this key)?\b|this key (may|can|is) only|key .{0,30}(restricted|limited) to`,
			},
			shown: []sign{
				{
					`permission to \S+ denied to \S+|(write|push|read) access to \S+ (is )?(refused|denied) (for|to) (user |account )?\S+`,
					.5,
				},
				{`(key|user) .{0,30}(belongs to|is of) another`, .8},
			},
			unless: `denied to (deploy|a deploy)|requested url returned error`,
			tell:   "The name behind \"denied to\" is the account that signed in: is it the one you meant?",
		},
	},
	{NoShell, SignIn, "Nothing is wrong: sign-in works, and the host gives no shell.", You,
		"Nothing to do: use git.", "it says",
		signs{
			shown: []sign{
				{
					`interactive git shell is not enabled|unrecognized command '|am i\? a shell|git-shell-commands should exist`,
					.93,
				},
				{
					`(gives?|grants?|provides?|offers?|allows?|has|have) (you )?(no|not an?) (interactive )?(shell|login|session)|` +
						`(does|do|will|can) ?not (give|grant|provide|offer|allow|have) (\S+ ){0,3}(shell|terminal|interactive)|` +
						`no (interactive )?shell( access| here)?([.,;!]|$)|(shell access|interactive (shell|login|session)s?) (is|are) (not|disabled)`,
					.88,
				},
			},
			unless: `permission denied|could not read from remote|not allowed because|connection refused`,
		}},
}
