package jump

// effect says what is made of a directive of the configuration. Each is sorted by one question:
// can it make the trust in a host, the login or the route stricter? What can is honoured, or ends
// the leg; it is never passed over.
type effect byte

// The effects of directives.
const (
	// unheard is what this program has never heard of: it ends the leg, unless IgnoreUnknown names it.
	unheard effect = iota
	// honoured is what a hop goes by.
	honoured
	// harmless is what says nothing of trust, login and route of a forward; or would only make
	// them less strict, or add a login method; or says what OpenSSH does on this machine with
	// keys, sessions and its own files.
	harmless
	// impossible is what cannot be done here: with any value but those of [idle], it ends the leg.
	impossible
	// refusing ends the leg: the user has written that this host is not to be connected to.
	refusing
)

// directives has all of them (ssh_config(5)), in lower case, those of other versions too.
var directives = map[string]effect{
	"addkeystoagent": harmless, "addressfamily": honoured, "batchmode": honoured, "bindaddress": honoured,
	"bindinterface": impossible, "canonicaldomains": harmless,
	"canonicalizefallbacklocal": harmless, "canonicalizehostname": impossible, "canonicalizemaxdots": harmless,
	"canonicalizepermittedcnames": harmless, "casignaturealgorithms": honoured,
	"certificatefile": honoured, "challengeresponseauthentication": honoured, "channeltimeout": harmless,
	"checkhostip": honoured, "ciphers": honoured, "clearallforwardings": harmless,
	"compression": harmless, "connectionattempts": harmless, "connecttimeout": harmless,
	"controlmaster": harmless, "controlpath": harmless, "controlpersist": harmless,
	"dynamicforward": harmless, "enableescapecommandline": harmless, "enablesshkeysign": harmless,
	"escapechar": harmless, "exitonforwardfailure": harmless, "fingerprinthash": harmless,
	"forkafterauthentication": harmless, "forwardagent": harmless, "forwardx11": harmless,
	"forwardx11timeout": harmless, "forwardx11trusted": harmless, "gatewayports": harmless,
	"globalknownhostsfile": honoured, "gssapiauthentication": harmless, "gssapiclientidentity": harmless,
	"gssapidelegatecredentials": harmless, "gssapikexalgorithms": harmless,
	"gssapikeyexchange": harmless, "gssapirenewalforcesrekey": harmless, "gssapiserveridentity": harmless,
	"gssapitrustdns": harmless, "hashknownhosts": harmless,
	"hostbasedacceptedalgorithms": harmless, "hostbasedauthentication": harmless, "hostbasedkeytypes": harmless,
	"hostkeyalgorithms": honoured, "hostkeyalias": honoured, "hostname": honoured,
	"identitiesonly": honoured, "identityagent": honoured, "identityfile": honoured, "ignoreunknown": harmless,
	"ipqos": harmless, "kbdinteractiveauthentication": honoured,
	"kbdinteractivedevices": harmless, "kexalgorithms": honoured, "knownhostscommand": impossible,
	"localcommand": harmless, "localforward": harmless, "loglevel": harmless, "logverbose": harmless,
	"macs": honoured, "nohostauthenticationforlocalhost": harmless, "numberofpasswordprompts": harmless,
	"obscurekeystroketiming": harmless, "passwordauthentication": honoured,
	"permitlocalcommand": harmless, "permitremoteopen": harmless, "pkcs11provider": impossible,
	"port": honoured, "preferredauthentications": honoured, "protocol": harmless,
	"proxycommand": honoured, "proxyjump": honoured, "proxyusefdpass": impossible,
	"pubkeyacceptedalgorithms": honoured, "pubkeyacceptedkeytypes": honoured, "pubkeyauthentication": honoured,
	"refuseconnection": refusing, "rekeylimit": honoured, "remotecommand": harmless, "remoteforward": harmless,
	"requesttty": harmless, "requiredrsasize": honoured, "revokedhostkeys": impossible,
	"rhostsrsaauthentication": harmless, "rsaauthentication": harmless, "securitykeyprovider": harmless,
	"sendenv": harmless, "serveralivecountmax": harmless, "serveraliveinterval": harmless,
	"sessiontype": harmless, "setenv": harmless, "smartcarddevice": impossible, "stdinnull": harmless,
	"streamlocalbindmask": harmless, "streamlocalbindunlink": harmless,
	"stricthostkeychecking": honoured, "syslogfacility": harmless, "tag": harmless, "tcpkeepalive": harmless,
	"tunnel": harmless, "tunneldevice": harmless, "updatehostkeys": honoured,
	"usekeychain": harmless, "useprivilegedport": harmless, "user": honoured, "userknownhostsfile": honoured,
	"useroaming": harmless, "verifyhostkeydns": harmless, "versionaddendum": harmless,
	"visualhostkey": harmless, "warnweakcrypto": harmless, "xauthlocation": harmless,
}

// idle has, for directives that are impossible here, the values with which they do nothing.
var idle = map[string][]string{
	"canonicalizehostname": {"no"}, "knownhostscommand": {"none"}, "pkcs11provider": {"none"},
	"smartcarddevice": {"none"}, "proxyusefdpass": {"no"}, "bindinterface": {""},
	"revokedhostkeys": {"none", "/dev/null"},
}

// adding are the directives of which each value counts.
var adding = []string{"identityfile", "certificatefile"}

// rivals are two directives of which the first one said counts.
var rivals = map[string]string{"proxyjump": "proxycommand", "proxycommand": "proxyjump"}
