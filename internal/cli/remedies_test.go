package cli

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
)

// met are samples of what a look around and an engine find out, with what a shell or SQL would
// misread in some.
var met = finding.Facts{
	finding.FactDetail: "It is so.", finding.FactFix: "chmod 600 'a b'", finding.FactWallet: "/home/a b/wallet",
	finding.FactMissing: "The setting user is missing.",
	finding.FactFlag:    "user", finding.FactWrong: "They do not fit.", finding.FactSetting: "tls mode",
	finding.FactOrigin: "p.yaml:3", finding.FactFile: "ca.pem",
	finding.FactOtherSecret: "file:/home/a b/pw", finding.FactVariable: "HUT_PW",
	finding.FactStart: "sudo systemctl start x", finding.FactPrivate: "10.0.0.1",
	finding.FactOwner: "other (id 7)", finding.FactOwnerId: "7", finding.FactProcess: "9",
	finding.FactFound: "a server", finding.FactName: "h", finding.FactKind: "a folder",
	finding.FactMethod: "md5", finding.FactAccepted: "md5", finding.FactRounds: "5", finding.FactLeast: "4096",
	finding.FactTook: "9s", finding.FactSystemUser: "who's",
	finding.FactNear: "bunk house", finding.FactNearUser: "warden", finding.FactWhat: "fly",
	finding.FactUnmet: "superuser", finding.FactAccount: "u@%",
	finding.FactWants: "primary", finding.FactServers: "a is a replica", finding.FactLastAddress: "127.0.0.9",
	finding.FactPrimaryHost: "db2.fellside.example", finding.FactPrimaryPort: "7",
	finding.FactAdmin: "admin", finding.FactSameAsUser: "u",
	finding.FactContainer: "hut's db", finding.FactContainerTitle: "the service db",
	finding.FactContainerPort: "5432", finding.FactNearContainer: "db@huts",
	finding.FactImage: "postgres:16", finding.FactEngine: "/run/x.sock", finding.FactEngineFrom: "a usual socket",
	finding.FactEngineProgram: "docker", finding.FactEngineStart: "sudo systemctl start docker",
	finding.FactGroup: "docker", finding.FactExit: "1",
	finding.FactReach: "{name: hutdb, port: 5433, reach: exec}", finding.FactVolume: "v",
	finding.FactVolumeMade: "then", finding.FactContainerMade: "now",
	finding.FactLimitStatement:     "alter user u with max_user_connections 0",
	finding.FactBaseLimitStatement: "alter database b connection limit -1",
	finding.FactSecretStatement:    "alter user u identified by '…'", finding.FactCard: "o'card",
	finding.FactCertified: "db1.fellside.example", finding.FactPlain: "The connection is not encrypted",
	finding.FactNoCard: "No client certificate was sent", finding.FactHourly: "max_updates_per_hour",
	finding.FactPasswordStatement: "alter user u password '…'", finding.FactSince: "then",
	finding.FactOthers: "5433", finding.FactNames: "huts, hills",
	finding.FactCloudAccount: "fellside", finding.FactCloudName: "bunkhouse",
	finding.FactCloudServer: "fellside/bunkhouse",
	finding.FactCloudTitle:  "The cloud server fellside/bunkhouse",
	finding.FactCloudURL:    "https://cloud.fellside.example",
	finding.FactReplica:     "reports", finding.FactCaller: "203.0.113.7", finding.FactRanges: "nothing at all",
	finding.FactAdmit: "huts/live", finding.FactHopProfile: "huts/staging",
	finding.FactHopWay:        "ops@gate.fellside.example",
	finding.FactLink:          "https://cloud.fellside.example/services?a=b&c",
	finding.FactNearServer:    "fellside/bunkhouse",
	finding.FactPrivateServer: "{account: fellside, server: bunkhouse, address: private}",
	finding.FactPublicServer:  "fellside/bunkhouse", finding.FactRetry: "14:00:00",
	finding.FactService: "databases", finding.FactState: "stopped", finding.FactStatus: "503",
	finding.FactHop: "ops@gate.fellside.example", finding.FactHopAddress: "10.0.0.1:22",
	finding.FactHopUser: "ops", finding.FactFingerprint: "ssh-ed25519 SHA256:x",
	finding.FactAccept: "SHA256:" + strings.Repeat("x", 42) + "A", finding.FactTo: "db:5432",
	finding.FactFolders: "/a, /b", finding.FactWanted: "1",
	finding.FactForget:          "ops@gate.fellside.example:2222",
	finding.FactForgetElsewhere: "ssh-keygen -R gate", finding.FactOffered: "nothing", finding.FactWords: "closed",
}

// addresses are the kinds of address that a profile can have, as settings, with where it is met.
var addresses = map[string][]string{
	"a name": {"host", "db.fellside.example"}, "this machine by name": {"host", "localhost"},
	"IPv4": {"host", "127.0.0.1"}, "IPv6": {"host", "::1"},
	"a name and a port": {"host", "db.fellside.example", "port", "6021"}, "a socket": {"socket", "/run/x/.s"},
	"encrypted":   {"host", "h", "tls.mode", "verify", "tls.ca", "/ca.pem"},
	"behind hops": {"host", "10.0.0.9", "via", "ops@gate.fellside.example"}, "an alias": {"alias", "bookings"},
	"a cloud's server":  {"cloud", "fellside/bunkhouse"},
	"a cloud's replica": {"cloud", "{account: fellside, server: bunkhouse, replica: reports}"},
	"a container":       {"container", "hutdb"},
	"a service":         {"container", "{service: db, project: huts, port: 5433, reach: exec}"},
}

// someAliases knows one alias.
type someAliases struct{}

func (someAliases) Find(said profile.Value) (profile.Alias, error) {
	at := profile.Origin{Layer: profile.LayerAlias, Name: said.Text, File: "aliases.yaml", Line: 1}
	return profile.Alias{Layer: profile.Layer{"addresses": profile.ListValue([]string{"127.0.0.1:5",
		"db.fellside.example"}, at), "tls.mode": {Text: "verify", Origin: at}}}, nil
}
func (a someAliases) Fresh() profile.Aliases { return a }

var library = profile.Library{Aliases: someAliases{}}

var unfilled = regexp.MustCompile(`[{}]|^(FILE|PATH|NAME|VALUE|PORT|ADDRESS|HOST|VARIABLE|STATEMENT)$|…`)

// ofDatabases are findings about databases of one server, and about roles that are taken on in a
// session: an engine with a listener has neither.
var ofDatabases = []finding.Code{finding.DatabaseMissing, finding.DatabaseNoRight, finding.DatabaseClosed,
	finding.DatabaseBaseLimit, finding.LoginRoleRefused}

// TestEveryRemedyIsACommand proves each command that the catalogue can propose: for every entry,
// engine, kind of address and command in which it can arise, its flags exist, its settings fit
// together with those of the run, and nothing is left to fill in.
func TestEveryRemedyIsACommand(t *testing.T) {
	gap := regexp.MustCompile(`\{[a-z-]*[!?@"]?\}`) // a command of an engine may be an object
	app := &App{commands: everyCommand()}
	proved, kept, entries := 0, 0, map[finding.Code]bool{}
	// the one that is left out is the second by another name
	for _, engine := range []string{"postgres", "mariadb", "oracle", "mongodb"} {
		for kind, address := range addresses {
			if engine != "postgres" && engine != "mariadb" &&
				!slices.Contains([]string{"a name", "encrypted", "behind hops", "an alias", "a container"}, kind) {
				continue // the others differ from these in no word of a remedy
			}
			for _, as := range []string{"saved", "flags", "add", "string"} {
				if engine != "postgres" && (as == "flags" || as == "add") {
					continue // how a command is repeated does not depend on the engine
				}
				for _, entry := range finding.All() {
					if info, _ := known.Info(engine); info.Serves && slices.Contains(ofDatabases, entry.Code) ||
						info.AccountsIn == "" && entry.Code == finding.LoginAnotherDatabase {
						continue
					}
					own, flags := set(t,
						append([]string{"engine", engine, "user", "u", "database", "b", "secret", "wallet"},
							address...)...), profile.Layer{}
					checker := checkup.Checker{Stores: checkup.Stores{Flags: [][]string{{"--passphrase-file", "pp"}}},
						Kin: checkup.Kin{Admin: func(string, string) string { return "admin" }}}
					name := "huts/it's"
					switch as {
					case "flags": // the whole address comes from flags of the run
						own, flags = set(t, "engine", engine, "user", "u", "host", "elsewhere", "port", "9",
							"secret", "wallet:team", "database", "a"),
							set(t, append([]string{"database", "b"}, address...)...)
						checker.Command.Flags = harbor.AsFlags(flags)
					case "add":
						checker.Command.Flags, checker.Command.Unsaved = append(harbor.AsFlags(own), []string{"--test"}), true
					case "string":
						name = ""
					}
					admitted, err := agree.Own(library, name, flags, own)
					if err != nil || len(admitted.Profile().Problems) > 0 {
						t.Fatalf("%s: %v %v", kind, err, admitted.Profile().Problems)
					}
					for _, found := range []finding.Facts{
						{finding.FactFoundSocket: "/run/y/a b", finding.FactFoundSocketTitle: "A server"},
						{finding.FactFoundHost: "127.0.0.1", finding.FactFoundHostPort: "7",
							finding.FactFoundTitle: "A server", finding.FactFoundEngine: "mariadb"},
						{finding.FactFoundPort: "7", finding.FactFoundTitle: "A server"},
					} {
						_, port := found[finding.FactFoundPort]
						if e := admitted.Profile(); port && e.Socket != "" ||
							e.Socket != "" &&
								slices.Contains([]string{"tls", "name", "container"}, entry.Code.Leg()) ||
							port && (e.Alias != "" || e.InContainer()) {
							continue // it is not proposed, or not met there
						}
						problem := &finding.Problem{Code: entry.Code, Facts: finding.Facts{}}
						if strings.HasSuffix(string(entry.Code), ".not-opened") { // behind a hop alone
							problem.Set(finding.FactBehind, "ops@outer.fellside.example")
						}
						for _, more := range []finding.Facts{met, found} {
							for fact, value := range more {
								problem.Facts[fact] = value
							}
						}
						f := checker.Describe(t.Context(), admitted, problem, "127.0.0.1:5")
						if len(f.Try) == 0 || strings.Contains(f.Cause, "{") {
							t.Errorf("%s: %q has no remedy, or a gap", entry.Code, f.Cause)
						}
						for _, remedy := range f.Try {
							if len(remedy.Run) > 0 {
								proved++
								entries[entry.Code] = true
								if err := provable(app, remedy, name, own); err != nil {
									t.Errorf("%s, %s, %s, %s: %s: %v", engine, kind, as, entry.Code, remedy, err)
								}
								if keeps := report.Kept(remedy, name); keeps != nil {
									kept++
									if err := app.newCall(app.find("change")).parse(keeps[1:]); err != nil {
										t.Errorf("%s, %s, %s, %s: to keep %s: %v", engine, kind, as, entry.Code, remedy, err)
									}
								}
							} else if gap.MatchString(remedy.Say) {
								t.Errorf("%s: %s", entry.Code, remedy)
							}
						}
					}
				}
			}
		}
	}
	// Commands that look for a secret themselves word its findings too.
	for _, entry := range finding.All() {
		for _, words := range []string{"wallet list", "wallet add", "credentials why", "credentials add", "export"} {
			for _, about := range []string{"", "huts/it's"} {
				cmd := app.find(strings.Fields(words)[0])
				if len(cmd.subs) > 0 {
					cmd = cmd.sub(strings.Fields(words)[1])
				}
				c := app.newCall(cmd)
				c.about = about
				if entry.Code.Leg() != "secret" {
					continue
				}
				for _, remedy := range c.finding(&finding.Problem{Code: entry.Code, Facts: met}).Try {
					if len(remedy.Run) > 0 {
						proved++
						if err := provable(app, remedy, about, set(t, "engine", "mysql", "user", "u")); err != nil {
							t.Errorf("%s, %s: %s: %v", words, entry.Code, remedy, err)
						}
					}
				}
			}
		}
	}
	t.Logf("%d commands proved, of %d of the catalogue's %d entries", proved, len(entries), len(finding.All()))
	if proved < 1000 || kept < 100 {
		t.Error("that is too few")
	}
}

// provable puts a remedy's command through the program's own parser, and its settings over the
// profile's.
func provable(app *App, remedy finding.Remedy, name string, own profile.Layer) error {
	run := remedy.Run
	for _, word := range run {
		if json.Valid([]byte(word)) { // a command of a server that takes objects
			continue
		}
		if unfilled.MatchString(word) && profile.ContainerText(must(profile.ParseContainer(word))) != word &&
			profile.CloudText(must(profile.ParseCloud(word))) != word || !outside.Clean(word) {
			return fmt.Errorf("the word %q", word)
		}
	}
	cmd := app.find(run[0])
	if cmd == nil {
		return fmt.Errorf("there is no such command")
	}
	rest := run[1:]
	if len(cmd.subs) > 0 {
		if cmd = cmd.sub(rest[0]); cmd == nil {
			return fmt.Errorf("there is no such action")
		}
		rest = rest[1:]
	}
	c := app.newCall(cmd)
	if err := c.parse(rest); err != nil {
		return err
	}
	for i, word := range rest {
		if strings.HasPrefix(word, "--") && slices.Contains(rest[i+1:], word) && word != "--expect" && word != "--option" {
			return fmt.Errorf("%s is given twice", word)
		}
	}
	if cmd.name == "add" {
		own = profile.Layer{}
	}
	if cmd.settings {
		if name == "" {
			name = "-"
		}
		if c.names[0] != name && c.names[0] != "admin" {
			return fmt.Errorf("it is about %q", c.names[0])
		}
		if problems := library.Stack("", c.Set, own).Resolve().Problems; len(problems) > 0 {
			return fmt.Errorf("%s", problems[0].Text)
		}
	}
	return nil
}

// set makes a layer as flags do.
func set(t *testing.T, pairs ...string) profile.Layer {
	t.Helper()
	layer := profile.Layer{}
	for i := 0; i < len(pairs); i += 2 {
		s, known := profile.Find(pairs[i])
		if err := harbor.Take(layer, s, pairs[i+1], profile.Origin{Layer: "flag"}); err != nil || !known {
			t.Fatal(pairs[i], err)
		}
	}
	return layer
}

// TestAContradictionIsFound shows that the proof can fail.
func TestAContradictionIsFound(t *testing.T) {
	app := &App{commands: everyCommand()}
	own := set(t, "engine", "postgres", "user", "u", "host", "h", "tls.mode", "verify")
	for _, words := range []string{
		"test p --socket /x --host 127.0.0.1", "test p --nothing", "tset p", "wallet lock",
		"test p --port PORT", "test p --port x", "test q", "test p --port 1 --port 1",
		"test p --socket /x --tls verify", "test p --tls-cert c",
	} {
		if err := provable(app, finding.Remedy{Run: strings.Fields(words)}, "p", own); err == nil {
			t.Errorf("%s is proved", words)
		}
	}
	if err := provable(app, finding.Remedy{Run: []string{"test", "p", "--port", "7"}}, "p", own); err != nil {
		t.Error(err)
	}
}

// must gives a value whose error shows in it.
func must[T any](value T, _ error) T { return value }
