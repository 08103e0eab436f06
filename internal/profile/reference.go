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

A profile is one YAML file, ` + "`profiles/GROUP/NAME.yaml`" + `: one document of plain maps, lists and texts. Anchors,
aliases, merge keys, tags, unknown or repeated keys, tabs for indents, characters that cannot be seen, and files
over 256 KB are errors that name the file, the line and the fix. The text of a scalar is its value:
` + "`database: 2024`" + ` is "2024".

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
		fmt.Fprintf(&b, "| `%s` | `--%s %s` | %s | %s | %s |\n", key, s.Flag, s.Value, variable, s.Meaning(), s.Otherwise())
	}
	b.WriteString(`
` + "`timeout: 5s`" + ` is short for ` + "`timeout: {leg: 5s}`" + `. Flags of a list (` + "`--on-open`" + `) and of a map with free names (` + "`--label`, `--option`" + `)
repeat. An empty value (` + "`\"\"`" + ` in a file, ` + "`''`" + ` for a flag) unsets what lower layers say. A secret that a program
prints is written ` + "`secret: {command: [PROGRAM, ARGUMENT]}`" + `; the program runs without a shell and has ten
seconds.

` + "`host`, `socket`, `alias`, `container` and `cloud`" + ` are spellings of one setting, the address. A layer that names one replaces the whole of the lower layers'
address, their port included; a port alone goes with the host that a lower layer names. The host of a flag or a
variable keeps the port of the host that it replaces, and the run says so; ` + "`--port`" + ` with what is no host is an
error. Relative paths start at the file that says them; ` + "`~`" + ` is the home folder. Encryption is decided by what is
written, never by looking a name up, and never falls back to none by itself.

Options that a profile may set:

`)
	for _, name := range known.Names() {
		info, _ := known.Info(name)
		fmt.Fprintf(&b, "- %s: %s\n", info.Title, strings.Join(info.Options, ", "))
	}
	b.WriteString(`
What decides the address, the encryption or the login is refused as an option, with the setting to use instead.

## Layers

Highest first; ` + "`gharbor show NAME`" + ` says where each value comes from, and ` + "`--hidden`" + ` which values it hides:

1. flags of the command
2. variables (` + "`GHARBOR_HOST`" + ` and so on); ` + "`GHARBOR_PROFILE`" + ` names the profile of a command without a name
3. the profile's file, then its ` + "`base`" + `, that one's base, and so on (without the bases' groups)
4. ` + "`group.yaml`" + ` in the profile's folder, then in each folder above it
5. the alias that is named, if one is
6. the engine's defaults

Maps (tls, timeout, options, labels) merge by key; lists replace. A command on several profiles refuses variables, and
every command that connects says what flags and variables change.

## Yours and the project's

Your own profiles are in your configuration folder. A project shares its own in ` + "`.gentle-harbor/`" + `, which is
found from any folder below, up to your home folder or the border of the file system; one that is open to others
is passed over. A name that both have is an error; ` + "`mine:NAME`" + ` and ` + "`project:NAME`" + ` say which. Your variant of a
project's profile has its name and says ` + "`base: project:NAME`" + `; then the plain name is yours.

A project's profile is a stranger's until you agree to it (` + "`gharbor agree NAME`" + `): nothing is connected to, no
secret is given, no program or statement runs. You agree to each setting that its files say, its references and
statements, and the content of every file and program that it names; any change asks again. Its files may name
nothing outside the project, no file with a password, none of your own profiles, and have nothing like a secret,
comments included. It may hand variables over to a program (` + "`hand-over`" + `) only where a variable's name ends in a
part that fits: URL, URI or DSN for the uri, HOST or SOCKET, PORT, USER, DATABASE, DB or NAME, PASSWORD.
Agreeing shows each with its value, but for the door's port and the secret.

## Hops

` + "`via`" + ` lists the jump hosts between this machine and the server, the first one first. Each is reached by SSH through the one before it, and the
server from the last one. A hop is ` + "`[user@]host[:port]`" + `, a Host of your OpenSSH configuration, or a map:

    via:
      - ops@gate.fellside.example
      - {host: inner.fellside.example, user: ops, port: 2022, key: ~/.ssh/id_inner, secret: wallet}

| part of a map | |
|---|---|
| host, user, port | where, and as which user; what is missing comes from the SSH configuration, then your account and 22 |
| key | the file of a private key, or of a public one whose private one an agent has; it is offered before all others |
| certificate | an OpenSSH user certificate |
| secret | where the key's passphrase comes from; without a key, the password of the hop |
| agent | the path of an agent's socket, or ` + "`none`" + ` |
| known-hosts | a file instead of your own known hosts |

Your OpenSSH configuration (` + "`~/.ssh/config`" + `, ` + "`/etc/ssh/ssh_config`" + `) and your known hosts count. Honoured are
HostName, User, Port, IdentityFile, CertificateFile, IdentityAgent, IdentitiesOnly, ProxyJump, ProxyCommand,
HostKeyAlias, the files of known hosts, CheckHostIP, UpdateHostKeys, RequiredRSASize, BatchMode, the algorithms
(CASignatureAlgorithms too), AddressFamily, BindAddress, RekeyLimit and the methods of login, with Host, Match
(all, host, originalhost, user, localuser) and Include. RefuseConnection ends the test with its words. A line
that applies to the hop, can make route, login or trust stricter, and cannot be honoured ends the test with its
file and line. An agent is never forwarded.

A ProxyCommand starts as OpenSSH starts it: variables and ` + "`~`" + ` are the shell's. The values of its tokens (` + "`%h`" + `,
` + "`%r`" + ` and others) may have letters, digits and ` + "`. _ @ % + : -`" + `, ` + "`%d`" + ` also ` + "`/`" + `, and none begins with a dash;
another value ends the test and is named. For a project's hop it starts in an empty folder, and a relative
program is refused with its whole path.

A host key is known when your own files or the system's have it. A key that only this program's file has is
known too, unless those files have a key of its type for that name and none is equal. A revoked key of a name is
revoked at every port. A certificate proves a hop when its authority is known, it is for the hop's name, and it
is valid now; one that is not is a finding of its own. A key that is not known is accepted by a person only, at
the question or with ` + "`--accept-host-key FINGERPRINT`" + `, and the configuration does not change that; it goes into
the file ` + "`known-hosts`" + ` of your own folder. ` + "`gharbor hops list`" + ` shows that file, and ` + "`gharbor hops forget HOP`" + `
forgets a hop, as it is listed or as a profile says it. A changed key always ends the test, and the finding
names the command that forgets the old one. What a hop announces after the login is learned only where its plain
key was known from your file or from this program's, never after a certificate.

Behind a hop, ` + "`localhost`" + ` and addresses are the last hop's, and ` + "`socket`" + ` is a socket there. A password is stored
for a route: what is stored for a server behind a hop is not sent to a server of that name without it. A hop's
own password is stored with ` + "`gharbor wallet add --server " +
		"ssh:HOST --user NAME`" + `. A project's hop says host, user and
port alone.

## Aliases

` + "`alias: NAME`" + ` is used instead of a host. A file of aliases maps names to servers:

    bookings-staging:
      engine: postgres
      addresses: [db1.fellside.example:5432, db2.fellside.example, {socket: /run/bunk}]
      database: bunkhouse
      wants: primary
      tls: {mode: verify, ca: certs/fellside-ca.pem}
      via: [ops@gate.fellside.example]
    ledger: {same-as: ledger-main}
    harbour-web: {engine: postgres, srv: _postgresql._tcp.fellside.example}

| an alias says | flag | what it is | default |
|---|---|---|---|
` + aliasTable() + `
It may also say engine, database, via, tls (mode, ca, server-name) and note, as profiles do. The files are, in this order: those that ` + "`--aliases`" + ` and ` + "`GHARBOR_ALIASES`" + ` (a
list) name, ` + "`aliases.yaml`" + ` in your own folder, and the project's. A name that both you and the project have is an error; ` + "`mine:NAME`" + ` and ` + "`project:NAME`" + ` say
which. A project's profile means the project's. A mistake in one alias spares the others; ` + "`gharbor alias check`" + ` finds all.

The next address is tried when one is not found, does not answer, does not greet, is starting, closing or full, or has another role than ` + "`wants`" + `; never after a
refused login or a certificate that is not valid. The certificate must be for the address's own name. A profile may make the alias's encryption stricter, never
weaker, and may not change its hops or who is trusted. A password is stored for the alias as it was then: when an address is new, or encryption, authority or
hops change, it is not sent until ` + "`gharbor wallet confirm ALIAS`" + ` or ` + "`gharbor credentials confirm ALIAS`" + `.

SRV records (RFC 2782) are asked of this machine's name service, also where there are hops. Their targets count when they are in the domain that the host of the
records is in (for records of ` + "`db.huts.example.com`" + `: ` + "`huts.example.com`" + ` and what is below it), or where tls says a server-name.

## Containers

` + "`container: NAME`" + ` is used instead of a host. The container is looked up through the container engine's API at each connection, so one that was made anew, or is on
another port, is found again:

    container: hutdb                  # by its name, or the beginning of its id
    container: hutdb:5433             # with the port inside, where it is not the usual one
    container: db@huts                # the service db of the Compose project huts; db@ for the project of this folder, or of the nearest above
    container: db#2@huts              # its second replica
    container: {service: db, project: huts, port: 5433, reach: exec}

The engine is the one that ` + "`DOCKER_HOST`" + ` names (` + "`unix://, tcp://, ssh://`" + `), else the current context's (` + "`DOCKER_CONTEXT`" + `, ` + "`~/.docker/config.json`" + `), else those whose usual sockets are here, root's and
your own. A test names it, and what chose it. An engine behind ` + "`ssh://`" + ` is reached through a hop, by the rules above, and so are the published ports. At a
` + "`tcp://`" + ` engine of another machine the ports are that machine's, and the default of tls is verify. Such an engine does not choose another host: where it says that a
port is published at an address that is not its own host's, ` + "`reach: published`" + ` allows that address (a loopback or link-local address is never taken).

The published port is used. Where none is, it is the container's own address, if this machine has that network's gateway. Where that fails too, and the profile says
` + "`reach: exec`" + `, a stream through the container engine is opened: a shell inside joins it to the server's port. Such a connection comes from the container's own
loopback address, where many images ask for no password; a test says so.

` + "`secret: container`" + ` takes the password from the variables by which the well-known images are set up, at each connection. They count only while the data folder
is empty: a later change of them changes nothing, and ` + "`login.first-start-only`" + ` says so. A stored password is for the container: its engine, its
image without the tag, its Compose project and that project's folder, its entrypoint and its command. Another container of the same name does not get it. ` + "`via`" + ` and ` + "`port`" + ` have no place beside a container.

` + "`gharbor find`" + ` shows the containers that are databases, running or not, and the services of the Compose files at or above the folder.

## Clouds

` + "`cloud: ACCOUNT/SERVER`" + ` is used instead of a host. The account is yours (` + "`gharbor cloud add`" + `), the server is named by its name or its id:

    cloud: fellside/bunkhouse
    cloud: {account: fellside, server: bunkhouse, replica: reports}   # a replica to read from
    cloud: {account: fellside, server: inner, address: private}       # for a network that this machine, or the last hop, is in

The leg ` + "`cloud`" + ` comes before the others: you are signed in, the server is found and runs, its address and its authority are known. The cloud is asked by this machine, also
where the profile has hops; what it says serves for 30 seconds in a run, such as that of a door, and longer while it cannot be asked; the next command asks anew. ` + "`tls`" + ` is always ` + "`verify`" + `, against the authority that the cloud
names, unless ` + "`tls.ca`" + ` names another. ` + "`port`" + ` has no place beside it.

` + "`secret: cloud`" + ` has the cloud make a temporary login: one for a run, until 80 % of its life are over, and in memory only. A profile then needs no user. A stored password
is for the server's id at that cloud, and serves its replicas. A project may name an account by the name that you have for it; agreeing shows the cloud's URL, and
another URL asks again. [cloud.md](cloud.md) says what a cloud must serve.

## Poolers

A pooler is a program in front of the server that lends a few of the server's sessions to many clients. Where it lends them by transaction, what one client
sets in a session is what the next client finds there. A test says so: "through a pooler". It is found out by the number of the session: the login gives one,
and the session has another.

Through a pooler nothing that gharbor sets outlives it:

- The role and the options (PostgreSQL) are set in each transaction, together with the statement that runs there. MySQL and MariaDB have no settings for a
  transaction, so there a role or options are refused (` + "`database.pooled`" + `).
- ` + "`on-open`" + ` is refused, and so are statements of ` + "`run`" + ` that change the session: SET, PREPARE, LISTEN, CREATE TEMPORARY and such. SET LOCAL is not.
- A function that changes the session from inside a SELECT (` + "`set_config`" + ` with false) is not seen.

` + "`pooled`" + ` says what the pooler does, where that is not to be found out:

- ` + "`pooled: session`" + `: each client has a session of its own until it leaves. Role, options and ` + "`on-open`" + ` are done once, and role and options are taken back at the end.
- ` + "`pooled: transaction`" + `: each transaction may meet another session. Options are not sent with the login, where some poolers refuse them (` + "`settings.option-pooled`" + `).
- ` + "`pooled: no`" + `: the server itself answers, and nothing is looked at.

## Engines with a listener

A listener is a program that takes the connections for one or more databases, and is asked for one of them by name (Oracle Database). It can be up while
the database is closed, or not know the database yet.

    engine: oracle
    host: db.fellside.example
    service: census.fellside.example
    user: warden_app

- ` + "`service`" + ` is the name that clients ask for. ` + "`instance`" + ` is the name of one running server, and often another word. A profile has one of the two. ` + "`database`" + `
  alone is read as the service. Two of the three in one layer are an error; in different layers the highest counts.
- Each service leads to a database with accounts of its own. So a password that is stored by such a profile is for its service, or its instance, alone:
  ` + "`gharbor wallet list`" + ` shows ` + "`HOST:PORT/SERVICE`" + ` or ` + "`HOST:PORT/instance:NAME`" + `. An entry for ` + "`HOST:PORT`" + ` without a name is for all of them.
- ` + "`role: sysdba`" + ` or ` + "`role: sysoper`" + ` is a privileged mode of the login. A role of the database is switched on with ` + "`on-open: [set role NAME]`" + `.
- With TLS the encryption comes before the greeting: the listener speaks it at a port of its own. The encryption of the protocol itself is not TLS and is not spoken here;
  a server that insists on it is ` + "`greeting.own-encryption`" + `.
- A listener may hand the connection on to another address, five times at most. A stored password goes there only where its entry is for that address too: an alias with
  both, an entry for the host without a port, or one for ` + "`*.DOMAIN`" + `. A listener on another machine cannot lead to this one.
- ` + "`gharbor alias probe`" + ` asks without a login, and says which of the three is true: it answers, knows the service, is ready. ` + "`gharbor await`" + ` waits for each.
- ` + "`gharbor alias import FILE`" + ` takes over the descriptions of a file of names (` + "`NAME = (DESCRIPTION = …)`" + `): the addresses and their order, service or instance, TLS and its name. What
  else it says is named and left out. A further file that it names is read only in the same folder. ` + "`gharbor alias export NAME --as description`" + ` writes one.
- ` + "`gharbor add`" + ` also takes ` + "`//HOST:PORT/SERVICE`" + ` and a description.
- ` + "`gharbor run`" + ` runs one statement at a time, with rows as text. Scripts, values beside a statement, ` + "`load`, `survey` and `talk`" + ` are not there yet, and say so.

Only our own practice server was met with this engine, no server of its makers. The practice server is met by two drivers that other people wrote, too.

## Servers of documents

` + "`engine: mongodb`" + ` can be defined and tested, ` + "`run`" + ` runs one command ([run.md](run.md#commands-of-a-server-of-documents)), and ` + "`survey`" + ` lists its databases and its collections (` + "`tables`" + `).
Doors encrypt for their clients, and judge by which method these log in; the string of a door says ` + "`directConnection=true`" + `, since the names that a set gives lead past the door. The other
lists, ` + "`load`" + ` and ` + "`talk`" + ` are not there yet, and say so.

- With TLS the encryption comes before the greeting.
- A database that does not exist is no error to such a server: it makes the database at the first write. The leg ` + "`database`" + ` says so, and which ones there are.
- ` + "`options: {auth: NAME}`" + ` says which database knows the account. Without it the database to open is asked whether it does, and then ` + "`admin`" + `.
- The methods are SCRAM-SHA-256, SCRAM-SHA-1, MONGODB-X509 (with ` + "`tls cert`" + ` and ` + "`secret: none`" + `) and PLAIN. PLAIN shows the password, and is used only where that may be.
- A profile names one member of a set. The report says which set, and whether it is the primary (` + "`stands as`" + `). Where a replica refuses a change, the finding has the command that leads
  to the primary. An alias that wants the primary (` + "`wants: primary`" + `) follows the name that a replica gives, once: the password goes there where it may (a stored one only where
  the alias lists the address, or its entry is for that address too), and never to an address of a machine itself or of its own network. ` + "`options: {direct: 'true'}`" + ` has nobody follow. A
  door goes only where the alias leads.
- A server without accounts needs no user: ` + "`secret: none`" + ` says that nobody logs in.
- ` + "`gharbor import NAME 'mongodb+srv://…'`" + ` makes an alias of the SRV records and a profile of it, encrypted and verified.
- Beside SRV records such a server's TXT record may say ` + "`authSource` and `replicaSet`" + `. They count where the profile says no ` + "`auth` and no `set`" + `. A record that says anything else
  is refused, and nothing is connected to; so is a value with other characters than letters, digits, ` + "`-`, `_` and `.`" + `.
- ` + "`options: {set: NAME}`" + ` says which set the server must be of; in a connection string it is ` + "`replicaSet`" + `.
- Where the set names a server that this machine cannot get to, ` + "`test`" + ` says so: clients that follow such names fail, although the profile works. ` + "`options: {direct: 'true'}`" + ` writes
  ` + "`directConnection=true`" + ` into the connection string, which keeps them at the server of the profile.

The practice server is met by the driver that the engine's own people made, too, and our client has met one server of other people's (FerretDB, in the tests).

## Where files are

| | Linux | macOS | Windows |
|---|---|---|---|
| your profiles, wallets and credential file | ` + "`$XDG_CONFIG_HOME/gentle-harbor`, or " +
		"`~/.config/gentle-harbor`" + ` | ` + "`~/Library/Application Support/gentle-harbor`" + ` | ` + "`%AppData%\\gentle-harbor`" + ` |
| what is remembered (agreements, tests, versions of wallets seen, what is in the keyring) | ` + "`$XDG_STATE_HOME/gentle-harbor`, or `~/.local/state/gentle-harbor`" + ` | ` + "`gentle-harbor/state`" + ` beside the profiles' folder | ` + "`%LocalAppData%\\gentle-harbor\\state`" + ` |
| a project's | ` + "`.gentle-harbor`" + ` in or above the current folder | the same | the same |

` + "`GHARBOR_HOME`" + ` replaces the first two. All of these files must be closed to others, from the root folder down: they belong to you or to
root, and nobody else can write to them. Your own group, folders with the sticky bit, and read-only mounts are no trouble. A file that is
open is not used, and the error says the command that closes it. ` + "`GHARBOR_OWNER`" + ` names one more account, by name or number, whose files
count as yours: for root in a container that works on a user's folder.

On Windows there are no owners and modes to check: files with passwords and project folders are taken as they are. [platforms.md](platforms.md) has what else differs there and on macOS.

## In and out

` + "`gharbor import`" + ` takes a connection string, labelled parts, a file of NAME=VALUE lines, a service binding folder, or
the JSON of an export. ` + "`gharbor add`" + ` takes all but files and folders.

Other programs' parameters become settings: ` + "`sslmode`, `ssl`, `useSSL`" + ` and their kin set ` + "`tls`" + `, ` + "`channel_binding=require`" + ` and ` + "`require_auth`" + ` set
` + "`login-methods`" + `, ` + "`requirepeer`" + ` sets ` + "`socket-owner`" + `, ` + "`target_session_attrs`" + ` becomes the expectation ` + "`read-only`" + `, or ` + "`wants`" + ` of an alias where there are
several hosts. A parameter that makes the connection stricter and has no such setting is refused by name. All others that are not known
are left out, and named in the note.

References to a file, a program or a variable, paths and statements come along only when they were
shown and agreed to (` + "`--with-references`" + `). ` + "`gharbor export --as " +
		"uri|bare|description|env|dotenv|binding|json`" + ` writes them. A password is not stored when it comes
in, and leaves only with ` + "`--with-secret`" + `, to a new file with mode 0600 or into a pipe.
`)
	return b.String()
}

// aliasTable lists the settings that only an alias has.
func aliasTable() string {
	var b strings.Builder
	for _, s := range AliasSettings {
		fmt.Fprintf(&b, "| `%s` | `--%s %s` | %s | %s |\n", s.Name, s.Flag, s.Value, s.Meaning(), s.Otherwise())
	}
	return b.String()
}
