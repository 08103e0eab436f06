package profile

import (
	"fmt"
	"strings"

	"gentle-harbor/internal/engine/known"
)

// ReferencePage writes the page about every setting (Markdown), from the table that checks them.
func ReferencePage() string {
	var b strings.Builder
	b.WriteString(`# Profiles

<!-- Made from the table of settings in internal/profile/setting.go; go test checks that it is up to date, and
UPDATE_DOCS=1 go test ./internal/profile writes it anew. -->

A profile is one YAML file, ` + "`profiles/GROUP/NAME.yaml`" + `: one document of plain maps, lists and texts. Anchors, aliases,
merge keys, tags, unknown or repeated keys, tabs for indents, characters that cannot be seen, and files over 256 KB
are errors that name the file, the line and the mend. The text of a scalar is its value: ` + "`database: 2024`" + ` is "2024".

` + "```yaml" + `
engine: postgres
host: db.fellside.example
database: bunkhouse
user: warden_app
secret: env:HUT_PASSWORD
tls:
  mode: verify
  ca: certs/fellside-ca.pem
note: A copy of the live data, refreshed each Monday.
` + "```" + `

## Settings

| in the file | flag | variable | what it is | default |
|---|---|---|---|---|
`)
	for _, s := range Settings {
		key := strings.TrimSuffix(s.Name, ".")
		key = strings.ReplaceAll(key, ".", ": ")
		if strings.HasSuffix(s.Name, ".") {
			key += ": {NAME: VALUE}"
		}
		variable := "–"
		if s.Variable() != "" {
			variable = "`" + s.Variable() + "`"
		}
		fmt.Fprintf(&b, "| `%s` | `--%s %s` | %s | %s | %s |\n", key, s.Flag, s.Value, variable, s.About, s.Default)
	}
	b.WriteString(`
` + "`timeout: 5s`" + ` is short for ` + "`timeout: {leg: 5s}`" + `. Flags of a list (` + "`--on-open`" + `) and of a map with free names (` + "`--label`, `--option`" + `)
repeat. An empty value (` + "`\"\"`" + ` in a file, ` + "`''`" + ` for a flag) unsets what lower layers say. A secret that a program prints is
written ` + "`secret: {command: [PROGRAM, ARGUMENT]}`" + `; the program runs without a shell and has ten seconds.

` + "`host`, `socket`" + ` are two spellings of one setting, the place. A layer that names one replaces the whole of the lower layers'
place, their port included; a port alone goes with the host that a lower layer names. Relative paths start at the file
that says them; ` + "`~`" + ` is the home folder. Encryption is decided by what is written, never by looking a name up, and never
falls back to none by itself.

Options that a profile may set:

`)
	for _, name := range known.Names() {
		info, _ := known.Info(name)
		fmt.Fprintf(&b, "- %s: %s\n", info.Title, strings.Join(info.Options, ", "))
	}
	b.WriteString(`
What decides the address, the encryption or the login is refused as an option, with the setting to use instead.

## Layers

Highest first; ` + "`gharbor show NAME`" + ` tells where each value comes from, and ` + "`--all`" + ` which values it hides:

1. flags of the command
2. variables (` + "`GHARBOR_HOST`" + ` and so on); ` + "`GHARBOR_PROFILE`" + ` names the profile of a command without a name
3. the profile's file, then its ` + "`base`" + `, that one's base, and so on (without the bases' groups)
4. ` + "`group.yaml`" + ` in the profile's folder, then in each folder above it
5. the engine's defaults

Maps (tls, timeout, options, labels) merge by key; lists replace. A command on several profiles refuses variables, and
every command that connects says what flags and variables change.

## Yours and the project's

Your own profiles are in your configuration folder. A project shares its own in ` + "`.gentle-harbor/`" + `, which is found from any
folder below, up to your home folder or the border of the file system; one that another user owns or can write to is
passed over. A name that both have is an error; ` + "`mine:NAME`" + ` and ` + "`project:NAME`" + ` tell them apart. Your variant of a project's
profile has its name and says ` + "`base: project:NAME`" + `; then the plain name is yours.

A project's profile is a stranger's until you agree to it (` + "`gharbor agree NAME`" + `): nothing is connected to, no secret is
given, no program or statement runs. You agree to its whole effective way, its references and statements, and the
content of every file and program that it names; any change asks again. Its files may name nothing outside the
project, no file with a password, none of your own profiles, and hold nothing like a secret, comments included.

## Where files are

| | Linux | macOS | Windows |
|---|---|---|---|
| your profiles, wallets and credential file | ` + "`$XDG_CONFIG_HOME/gentle-harbor`, or `~/.config/gentle-harbor`" + ` | ` + "`~/Library/Application Support/gentle-harbor`" + ` | ` + "`%AppData%\\gentle-harbor`" + ` |
| what is remembered (agreements, tests, versions of wallets seen, what is in the keyring) | ` + "`$XDG_STATE_HOME/gentle-harbor`, or `~/.local/state/gentle-harbor`" + ` | ` + "`gentle-harbor/state`" + ` beside the profiles' folder | ` + "`%LocalAppData%\\gentle-harbor\\state`" + ` |
| a project's | ` + "`.gentle-harbor`" + ` in or above the current folder | the same | the same |

` + "`GHARBOR_HOME`" + ` replaces the first two. On Windows there are no owners and modes to check: files with passwords and project
folders are taken as they are, and Unix sockets, where a server has them, work as elsewhere.

## In and out

` + "`gharbor import`" + ` takes a connection string, lines of labelled parts, a file of NAME=VALUE lines, a service binding folder, or
the JSON of an export. ` + "`gharbor export --as uri|env|dotenv|binding|json`" + ` writes them. A password is never saved on the way
in, and leaves only with ` + "`--with-secret`" + `, to a new file with mode 0600 or into a pipe.
`)
	return b.String()
}
