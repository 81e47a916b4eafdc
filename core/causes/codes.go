package causes

// A Code names a cause. Once released it never changes its meaning. Those that there are, are the variables of this
// package: nobody else can make one.
type Code struct{ name string }

// String returns the name, as in "unicrux explain NAME" and in documents.
func (c Code) String() string { return c.name }

// MarshalText makes the name stand for the code in documents.
func (c Code) MarshalText() ([]byte, error) { return []byte(c.name), nil }

// IsZero reports whether it is no code at all.
func (c Code) IsZero() bool { return c.name == "" }

// Find returns the code of a name; found is false for one that nobody knows.
func Find(name string) (code Code, found bool) {
	for _, e := range catalogue {
		if e.code.name == name {
			return e.code, true
		}
	}
	for _, n := range notes {
		if n.code.name == name {
			return n.code, true
		}
	}
	return Code{}, false
}

// The causes that stop the way, in its order.
var (
	URLMalformed                = Code{"url-malformed"}
	URLCharacters               = Code{"url-characters"}
	URLIsAPage                  = Code{"url-is-a-page"}
	URLPortInShortForm          = Code{"url-port-in-short-form"}
	URLTransportRefused         = Code{"url-transport-refused"}
	URLAliasUnknown             = Code{"url-alias-unknown"}
	RemoteMissing               = Code{"remote-missing"}
	RepositoryNone              = Code{"repository-none"}
	URLRewritten                = Code{"url-rewritten"}
	URLSecret                   = Code{"url-secret"}
	URLUserMissing              = Code{"url-user-missing"}
	ProgramMissing              = Code{"program-missing"}
	UserUnlisted                = Code{"user-unlisted"}
	RepositoryOwner             = Code{"repository-owner"}
	OtherUser                   = Code{"other-user"}
	GitConfigBroken             = Code{"git-config-broken"}
	TransportForbidden          = Code{"transport-forbidden"}
	SSHCommandBroken            = Code{"ssh-command-broken"}
	SSHConfigBroken             = Code{"ssh-config-broken"}
	SSHConfigExposed            = Code{"ssh-config-exposed"}
	SSHConfigShadowed           = Code{"ssh-config-shadowed"}
	SSHConfigUnmatched          = Code{"ssh-config-unmatched"}
	SSHProgramUnknown           = Code{"ssh-program-unknown"}
	SSHSettingHinders           = Code{"ssh-setting-hinders"}
	FileMissing                 = Code{"file-missing"}
	HelperMissing               = Code{"helper-missing"}
	ProgramMoved                = Code{"program-moved"}
	HelperStale                 = Code{"helper-stale"}
	AskingFailed                = Code{"asking-failed"}
	AuthorMissing               = Code{"author-missing"}
	BranchUnknown               = Code{"branch-unknown"}
	KeyFileMissing              = Code{"key-file-missing"}
	KeyFilePublic               = Code{"key-file-public"}
	KeyFileExposed              = Code{"key-file-exposed"}
	KeyFileUnreadable           = Code{"key-file-unreadable"}
	KeyPairMismatch             = Code{"key-pair-mismatch"}
	KeyElsewhere                = Code{"key-elsewhere"}
	AgentUnreachable            = Code{"agent-unreachable"}
	KeyNone                     = Code{"key-none"}
	KeyLocked                   = Code{"key-locked"}
	KeyInDevice                 = Code{"key-in-device"}
	PassphraseWrong             = Code{"passphrase-wrong"}
	AgentRefused                = Code{"agent-refused"}
	TokenElsewhere              = Code{"token-elsewhere"}
	ChestClosed                 = Code{"chest-closed"}
	NameUnknown                 = Code{"name-unknown"}
	NetworkDown                 = Code{"network-down"}
	SSHPortBlocked              = Code{"ssh-port-blocked"}
	FirewallHere                = Code{"firewall-here"}
	PortRefused                 = Code{"port-refused"}
	PortSilent                  = Code{"port-silent"}
	NotSSH                      = Code{"not-ssh"}
	ConnectionClosed            = Code{"connection-closed"}
	LineDamaged                 = Code{"line-damaged"}
	NotTLS                      = Code{"not-tls"}
	ProxyUnreachable            = Code{"proxy-unreachable"}
	ProxySignIn                 = Code{"proxy-sign-in"}
	ProxyRefused                = Code{"proxy-refused"}
	ProxyCommandFailed          = Code{"proxy-command-failed"}
	JumpFailed                  = Code{"jump-failed"}
	AlgorithmsDiffer            = Code{"algorithms-differ"}
	HostCertificateEnded        = Code{"host-certificate-ended"}
	HostCertificateNotYet       = Code{"host-certificate-not-yet"}
	HostCertificateOtherName    = Code{"host-certificate-other-name"}
	HostKeyUnknown              = Code{"host-key-unknown"}
	HostKeyChanged              = Code{"host-key-changed"}
	HostKeyWrong                = Code{"host-key-wrong"}
	HostKeyRevoked              = Code{"host-key-revoked"}
	ClockWrong                  = Code{"clock-wrong"}
	TLSAuthorityUnknown         = Code{"tls-authority-unknown"}
	TLSEnded                    = Code{"tls-ended"}
	TLSNotYet                   = Code{"tls-not-yet"}
	TLSName                     = Code{"tls-name"}
	TLSWeak                     = Code{"tls-weak"}
	TLSVersion                  = Code{"tls-version"}
	TLSOwnCertificate           = Code{"tls-own-certificate"}
	SecretMissing               = Code{"secret-missing"}
	HeaderOverrides             = Code{"header-overrides"}
	PasswordRefused             = Code{"password-refused"}
	TokenEnded                  = Code{"token-ended"}
	SecondStepNeeded            = Code{"second-step-needed"}
	AddressNotAllowed           = Code{"address-not-allowed"}
	AccountBlocked              = Code{"account-blocked"}
	TokenMisplaced              = Code{"token-misplaced"}
	TokenUnknown                = Code{"token-unknown"}
	TokenPurposeMissing         = Code{"token-purpose-missing"}
	SignedInPage                = Code{"signed-in-page"}
	KeysTooMany                 = Code{"keys-too-many"}
	KeyNotOffered               = Code{"key-not-offered"}
	KeyKindRefused              = Code{"key-kind-refused"}
	KeyEnded                    = Code{"key-ended"}
	CertificateEnded            = Code{"certificate-ended"}
	CertificateNotYet           = Code{"certificate-not-yet"}
	CertificateOtherUser        = Code{"certificate-other-user"}
	CertificateAuthorityUnknown = Code{"certificate-authority-unknown"}
	KeyNotRegistered            = Code{"key-not-registered"}
	SignInOtherWay              = Code{"sign-in-other-way"}
	KeyOtherAccount             = Code{"key-other-account"}
	RepositoryMissing           = Code{"repository-missing"}
	RepositoryMoved             = Code{"repository-moved"}
	RepositoryNotGit            = Code{"repository-not-git"}
	RepositoryWithheld          = Code{"repository-withheld"}
	HostLimits                  = Code{"host-limits"}
	HostFailing                 = Code{"host-failing"}
	ReadOnlyAccount             = Code{"read-only-account"}
	ReadOnlyKey                 = Code{"read-only-key"}
	RepositoryFrozen            = Code{"repository-frozen"}
	BranchProtected             = Code{"branch-protected"}
	BranchUnborn                = Code{"branch-unborn"}
	BranchDetached              = Code{"branch-detached"}
	BranchUntracked             = Code{"branch-untracked"}
	BranchClash                 = Code{"branch-clash"}
	CommitMissing               = Code{"commit-missing"}
	HistoryDiverged             = Code{"history-diverged"}
	ChangesInTheWay             = Code{"changes-in-the-way"}
	SigningFailed               = Code{"signing-failed"}
	HookHere                    = Code{"hook-here"}
	HookThere                   = Code{"hook-there"}
	DiskFull                    = Code{"disk-full"}
	MemoryShort                 = Code{"memory-short"}
	LockLeft                    = Code{"lock-left"}
	FilesOwner                  = Code{"files-owner"}
	FolderInTheWay              = Code{"folder-in-the-way"}
	FileRefused                 = Code{"file-refused"}
	RepositoryDamaged           = Code{"repository-damaged"}
	HostRule                    = Code{"host-rule"}
	NoShell                     = Code{"no-shell"}
	ProgramOld                  = Code{"program-old"}
)

// What is worth knowing and stops nobody, besides some of those above.
var (
	TokenEndsSoon            = Code{"token-ends-soon"}
	KeyNoPassphrase          = Code{"key-no-passphrase"}
	PassphraseAsked          = Code{"passphrase-asked"}
	WayUnprotected           = Code{"way-unprotected"}
	AddressSilent            = Code{"address-silent"}
	HostKeyUnpublished       = Code{"host-key-unpublished"}
	SettingsUnused           = Code{"settings-unused"}
	TokenNeverEnds           = Code{"token-never-ends"}
	TokenTooWide             = Code{"token-too-wide"}
	SecretInPlainFile        = Code{"secret-in-plain-file"}
	KeyOld                   = Code{"key-old"}
	KeyCommentEmpty          = Code{"key-comment-empty"}
	AgentForwarded           = Code{"agent-forwarded"}
	AgentForwardedEverywhere = Code{"agent-forwarded-everywhere"}
	KeyWeak                  = Code{"key-weak"}
	WritingUntried           = Code{"writing-untried"}
	BranchBehind             = Code{"branch-behind"}
)
