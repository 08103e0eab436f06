//go:build unix

package jump

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/finding"
)

// sorted is how each setting of ssh_config(5) is to be sorted: can it make trust, login or route
// stricter?
var sorted = map[effect]string{
	honoured: `addressfamily batchmode bindaddress casignaturealgorithms certificatefile checkhostip ciphers globalknownhostsfile hostkeyalgorithms hostkeyalias hostname identitiesonly
		identityagent identityfile kbdinteractiveauthentication kexalgorithms macs passwordauthentication port preferredauthentications proxycommand proxyjump pubkeyacceptedalgorithms
		pubkeyauthentication rekeylimit requiredrsasize stricthostkeychecking updatehostkeys user userknownhostsfile`,
	impossible: `bindinterface canonicalizehostname knownhostscommand pkcs11provider proxyusefdpass revokedhostkeys`,
	// They are about sessions and forwards that are not opened here, about keeping alive,
	// display, the agent's and OpenSSH's own files.
	harmless: `addkeystoagent canonicaldomains canonicalizefallbacklocal canonicalizemaxdots canonicalizepermittedcnames channeltimeout clearallforwardings compression
		connectionattempts connecttimeout controlmaster controlpath controlpersist dynamicforward enableescapecommandline enablesshkeysign escapechar exitonforwardfailure
		fingerprinthash forkafterauthentication forwardagent forwardx11 forwardx11timeout forwardx11trusted gatewayports hashknownhosts ignoreunknown ipqos kbdinteractivedevices
		localcommand localforward loglevel logverbose numberofpasswordprompts obscurekeystroketiming permitlocalcommand permitremoteopen remotecommand remoteforward requesttty
		securitykeyprovider sendenv serveralivecountmax serveraliveinterval sessiontype setenv stdinnull streamlocalbindmask streamlocalbindunlink syslogfacility tag tcpkeepalive
		tunnel tunneldevice versionaddendum visualhostkey warnweakcrypto xauthlocation ` +
		// They add a login method or a way to trust, which is not needed: without them a hop is
		// only met more strictly.
		`gssapiauthentication gssapiclientidentity gssapidelegatecredentials gssapikexalgorithms gssapikeyexchange gssapirenewalforcesrekey gssapiserveridentity gssapitrustdns
		hostbasedacceptedalgorithms hostbasedauthentication nohostauthenticationforlocalhost verifyhostkeydns`,
	refusing: `refuseconnection`,
}

// TestEachSettingIsSorted holds the sort of each setting of the installed manual page.
func TestEachSettingIsSorted(t *testing.T) {
	want := map[string]effect{}
	for effect, names := range sorted {
		for _, name := range strings.Fields(names) {
			want[name] = effect
			if directives[name] != effect {
				t.Errorf("%s is sorted as %d, and should be as %d", name, directives[name], effect)
			}
		}
	}
	page, err := exec.CommandContext(t.Context(), "zcat", "-f", "/usr/share/man/man5/ssh_config.5.gz").Output()
	if err != nil {
		t.Skipf("skipped for want of the manual page of ssh_config: %v", err)
	}
	settings := regexp.MustCompile(`(?m)^\.It Cm ([A-Za-z0-9]+)`).FindAllSubmatch(page, -1)
	if len(settings) < 80 {
		t.Fatalf("only %d settings were found", len(settings))
	}
	for _, each := range settings {
		name := strings.ToLower(string(each[1]))
		if _, known := want[name]; !known && !slices.Contains([]string{"host", "match", "include"}, name) {
			t.Errorf("%s is in the page, and not in this table", name)
		}
	}
}

// TestSettingsThatEndTheLeg gives settings that cannot be honoured, or refuse.
func TestSettingsThatEndTheLeg(t *testing.T) {
	for text, code := range map[string]finding.Code{
		"RefuseConnection \"closed for the winter\"": finding.TunnelConfigRefuses,
		"KnownHostsCommand /bin/true":                finding.TunnelConfigUnsupported,
		"Host other\n  RefuseConnection no":          "",
		"RekeyLimit \" \"":                           finding.TunnelConfigBroken, "RekeyLimit ''": finding.TunnelConfigBroken,
		"User \"\"": finding.TunnelConfigBroken, "RequiredRSASize many": finding.TunnelConfigBroken,
		"UserKnownHostsFile known":     finding.TunnelConfigBroken,
		"GlobalKnownHostsFile \"a b\"": finding.TunnelConfigBroken,
		"UserKnownHostsFile %C":        finding.TunnelConfigBroken, "RekeyLimit default none": "",
		"BindInterface eth0": finding.TunnelConfigUnsupported,
	} {
		home := t.TempDir()
		c := Config{User: write(t, filepath.Join(home, ".ssh", "config"), text+"\n"), World: World{Home: home, User: "w"}}
		a := &attempt{Hop: &Hop{Config: c}}
		a.Hop.Host = "gate"
		err := a.decide()
		if err == nil {
			_, err = a.config(&purse{hop: a, settings: a.settings})
		}
		var p *finding.Problem
		if errors.As(err, &p); code == "" && err != nil ||
			code != "" && (p == nil || p.Code != code || p.Facts[finding.FactOrigin] == "") {
			t.Errorf("%s: %v instead of %q", text, problem(err), code)
		}
	}
}

// TestOneReading has a configuration that changes after it was read once: the later text has no
// part in anything.
func TestOneReading(t *testing.T) {
	home := t.TempDir()
	write(t, filepath.Join(home, ".ssh", "config"), "Include more*\n")
	more := write(t, filepath.Join(home, ".ssh", "more1"), "User a\n")
	c := Usual(World{Home: home, User: "w"})
	c.System = ""
	once := c.Once()
	first, err := once.For("gate", "")
	must(t, err)
	must(t, os.Remove(more))
	write(t, filepath.Join(home, ".ssh", "more2"), "User b\n")
	second, err := once.For("gate", "")
	must(t, err)
	fresh, err := c.For("gate", "")
	must(t, err)
	if first.text("user") != "a" || second.text("user") != "a" || fresh.text("user") != "b" {
		t.Errorf("%q, %q, %q", first.text("user"), second.text("user"), fresh.text("user"))
	}
}
