package sshconfig

import "strings"

// known lists the keywords of [CONF], obsolete ones included, up to the client's
// version 10. An unknown keyword makes the client stop.
var known = wordSet(`
host match include addkeystoagent addressfamily batchmode bindaddress bindinterface
canonicaldomains canonicalizefallbacklocal canonicalizehostname canonicalizemaxdots
canonicalizepermittedcnames casignaturealgorithms certificatefile channeltimeout checkhostip
ciphers clearallforwardings compression connectionattempts connecttimeout controlmaster
controlpath controlpersist dynamicforward enableescapecommandline enablesshkeysign escapechar
exitonforwardfailure fingerprinthash forkafterauthentication forwardagent forwardx11
forwardx11timeout forwardx11trusted gatewayports globalknownhostsfile gssapiauthentication
gssapiclientidentity gssapidelegatecredentials gssapikeyexchange gssapikexalgorithms
gssapirenewalforcesrekey gssapiserveridentity gssapitrustdns hashknownhosts
hostbasedacceptedalgorithms hostbasedauthentication hostbasedkeytypes hostkeyalgorithms
hostkeyalias hostname identitiesonly identityagent identityfile identityfile2 ignoreunknown
ipqos kbdinteractiveauthentication kbdinteractivedevices kexalgorithms knownhostscommand
localcommand localforward loglevel logverbose macs nohostauthenticationforlocalhost
numberofpasswordprompts obscurekeystroketiming passwordauthentication permitlocalcommand
permitremoteopen pkcs11provider port preferredauthentications proxycommand proxyjump
proxyusefdpass pubkeyacceptedalgorithms pubkeyacceptedkeytypes pubkeyauthentication
refuseconnection rekeylimit remotecommand remoteforward requesttty requiredrsasize
revokedhostkeys securitykeyprovider sendenv serveralivecountmax serveraliveinterval
sessiontype setenv stdinnull streamlocalbindmask streamlocalbindunlink stricthostkeychecking
syslogfacility tag tcpkeepalive tunnel tunneldevice updatehostkeys usekeychain user
userknownhostsfile verifyhostkeydns versionaddendum visualhostkey warnweakcrypto xauthlocation
afstokenpassing challengeresponseauthentication cipher compressionlevel dsaauthentication
fallbacktorsh globalknownhostsfile2 keepalive kerberosauthentication kerberostgtpassing
protocol rhostsauthentication rhostsrsaauthentication rsaauthentication skeyauthentication
smartcarddevice tisauthentication useprivilegedport useroaming userknownhostsfile2 usersh
protocolkeepalives setuptimeout debianbanner`)

// accumulating lists the keywords of which every value counts, not the first alone.
var accumulating = wordSet(`identityfile certificatefile sendenv setenv localforward remoteforward dynamicforward`)

// several lists the keywords that take more than one argument on a line.
var several = wordSet(`host match include addkeystoagent userknownhostsfile globalknownhostsfile sendenv setenv canonicaldomains
canonicalizepermittedcnames channeltimeout ipqos localforward remoteforward permitremoteopen logverbose
rekeylimit proxycommand proxyjump localcommand remotecommand knownhostscommand versionaddendum globalknownhostsfile2
userknownhostsfile2`)

// regardless lists the keywords that the client takes from every block, whether it matches or
// not. That it does so is found in its sources alone (oLogFacility and oStreamLocalBindMask
// in readconf.c).
var regardless = wordSet(`syslogfacility streamlocalbindmask`)

// unsetByNone lists the keywords for which "none" is as good as no line: a later one wins.
var unsetByNone = wordSet(`connecttimeout serveraliveinterval`)

// synonyms maps other spellings to the keyword they mean.
var synonyms = map[string]string{
	"identityfile2":                   "identityfile",
	"pubkeyacceptedkeytypes":          "pubkeyacceptedalgorithms",
	"hostbasedkeytypes":               "hostbasedacceptedalgorithms",
	"challengeresponseauthentication": "kbdinteractiveauthentication",
	"skeyauthentication":              "kbdinteractiveauthentication",
	"tisauthentication":               "kbdinteractiveauthentication",
	"dsaauthentication":               "pubkeyauthentication",
	"keepalive":                       "tcpkeepalive",
}

func wordSet(words string) map[string]bool {
	set := make(map[string]bool)
	for word := range strings.FieldsSeq(words) {
		set[word] = true
	}
	return set
}
