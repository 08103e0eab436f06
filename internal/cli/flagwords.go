package cli

import (
	"slices"
	"strings"
	"sync"

	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
)

// flagMeaning is what a flag means in every command that has it.
type flagMeaning struct {
	about string // its text in help; the kind of value that it takes is in backquotes
	other string // words that people write for it, and its earlier names, with spaces between them
	hint  string // what an answer to such a word says more
}

const tlsModes = ", with off, encrypt or verify"

// flagMeanings has every flag, with one text for all commands. A setting's flag has its text in
// package profile; its line here holds other words for it alone.
var flagMeanings = map[string]flagMeaning{
	"accept-host-key": {about: "the `FINGERPRINT` (SHA256:…) of a hop's host key that you have compared; may be repeated"},
	"account":         {about: "the cloud `ACCOUNT`, where several have an admission of that id"},
	"aliases": {about: "a `FILE` of aliases that counts before the usual ones; may be repeated (or " +
		"GHARBOR_ALIASES)"},
	"all": {about: "all that there are, instead of names or of a few"},
	"as": {about: "the form of what is printed, and of what is loaded",
		other: "format output-format json csv"},
	"at-least": {about: "the weakest encryption that the password may travel with (default: the profile's; else " +
		"off on this machine, verify to any other)",
		other: "tls"},
	"background": {about: "leave it running, and give the terminal back; gharbor doors lists it, gharbor release ends it",
		other: "detach daemon"},
	"ca": {about: "a `FILE` of certificates (PEM) of the authorities that verify the cloud itself, " +
		"instead of the system's"},
	"default-user": {about: "a profile without a user logs in as this one, where several are stored for its server"},
	"door-socket":  {about: "open the door as a Unix socket that your account alone can use, instead of a port"},
	"escape-formulas": {about: "with --as csv, put an apostrophe before texts that a spreadsheet would take " +
		"for a formula"},
	"every": {about: "how long to pause between two tests of a profile", other: "interval"},
	"every-port": {about: "say the engines' opening bytes to every port that is silent, and not only where " +
		"an engine is suggested"},
	"everywhere": {about: "change the profiles, groups and aliases that name it too", other: "with-references"},
	"file":       {about: "another credential `FILE` than the one in your own folder"},
	"fix":        {about: "set the modes of files right; all else is yours to decide"},
	"flat":       {about: "a full name a line, not a tree"},
	"for":        {about: "how long, at most", other: "wait during"},
	"from": {about: "a `FILE` of statements to run; - reads standard input; may be repeated",
		other: "file input"},
	"hidden":       {about: "show the values that others hide too", other: "all"},
	"json":         {about: "print JSON", other: "as format output-format"},
	"keep-waiting": {about: "go on after what waiting cannot fix, too"},
	"labelled": {about: "only profiles with this `LABEL`, as NAME=VALUE, or as NAME for any value; may be repeated",
		other: "label tag"},
	"largest":             {about: "how large one row, or one other message of the server's, may be"},
	"man":                 {about: "write a manual page; with a folder, every page"},
	"name":                {about: "a wallet of your own with this `NAME`, as in secret: wallet:NAME"},
	"near":                {about: "when the door's port is taken, take the next free one"},
	"new-passphrase-file": {about: "a `FILE` with the new passphrase; - reads standard input"},
	"only": {about: "look only at these `SOURCES`: listening, containers, compose or " +
		"environment; may be repeated, or with commas"},
	"open":            {about: "open the page in this machine's browser"},
	"outside":         {about: "read files that a Compose file names outside of its folder, too"},
	"parallel":        {about: "how many are worked on side by side", other: "jobs"},
	"pass-through":    {about: "pass bytes, and leave encryption to the client"},
	"passphrase-file": {about: "a `FILE` with the wallet's passphrase; - reads standard input"},
	"patience":        {about: "how long the cloud and the server may take together"},
	"project":         {about: "in the project's folder .gentle-harbor, to be shared; with --all, its profiles too"},
	"range": {about: "the `RANGE` of addresses to let in, such as 203.0.113.0/28, instead of this " +
		"machine's own"},
	"remove": {about: "remove the file afterwards"},
	"repeat": {about: "how often", other: "count"},
	"replace": {about: "overwrite what has that name already", other: "force overwrite",
		hint: ", which overwrites"},
	"secret-file": {about: "a `FILE` with the password; - reads standard input", other: "password-file passfile"},
	"server": {about: "the `SERVER` that the password is for: HOST[:PORT][/DATABASE], or a socket's path, or " +
		"ssh:HOST[:PORT] for a hop, or cloud-key:HOST:PORT for the key of a cloud account; *.SUFFIX is every " +
		"host below a suffix",
		other: "for host"},
	"store": {about: "store the password that was typed, given or found", other: "keep save"},
	"test":  {about: "save only when a test of the profile passes"},
	"to": {about: "the `FILE` to write to; a folder, where several files are written",
		other: "output out file", hint: "; in which form is said by --as"},
	"unset":           {about: "a `SETTING` to take out; may be repeated"},
	"until":           {about: "the last leg to test, as they are listed above"},
	"variable":        {about: "the `VARIABLE` that holds the connection string"},
	"wallet":          {about: "the `FOLDER` of another wallet than your own (or GHARBOR_WALLET)"},
	"with-references": {about: "take over references to secrets, statements and paths that a file says"},
	"with-secret":     {about: "write the password too"},
	"withdraw":        {about: "withdraw an agreement", other: "forget remove"},
	"let": {about: "a value for statements, as `NAME:KIND=VALUE` (beds:integer=12), or NAME:null for none; may " +
		"be repeated",
		other: "set var variable param bind"},
	"let-from": {about: "a value that is the content of a file, as `NAME=FILE` or NAME:KIND=FILE; - reads " +
		"standard input; may be repeated"},
	"include-word": {about: "the `TERM` that begins lines of --from files by which another client includes a " +
		"file: the rest of the line; may be repeated",
		other: "include"},
	"end-word": {about: "the `TERM` that begins lines by which another client changes the text that ends a " +
		"statement; may be repeated"},
	"pass-over": {about: "the `TERM` that begins lines of another client which are passed over; may be repeated",
		other: "skip ignore"},
	"words": {about: "a `FILE` with such words: YAML, with the lists include, end and pass-over"},
	"dry": {about: "list what would run: statements, included files, what commits by itself, values; nothing is " +
		"connected to",
		other: "dry-run check"},
	"took": {about: "say how long each statement took, to its first row and to its last",
		other: "timing time"},
	"show-settings": {about: "list your settings of talk, what each is for, and where their file is"},
	"keep-going": {about: "go on after a statement that failed; the exit code is 7 then",
		other: "continue force ignore-errors"},
	"all-or-nothing": {about: "run all statements in one transaction, and undo it when one fails",
		other: "transaction atomic single-transaction"},
	"result": {about: "print one result alone, by its number among those with rows"},
	"limit":  {about: "how many rows of each result, or of a list, are printed", other: "max-rows"},
	"like": {about: "only what has a `NAME` like this: * stands for any letters and ? for one; without them any part fits",
		other: "filter search pattern grep"},
	"of":         {about: "the rights of this `USER`, instead of your own", other: "for-user"},
	"on":         {about: "only what is about this `TABLE`", other: "for-table"},
	"system":     {about: "also what belongs to the server itself", other: "internal"},
	"at":         {about: "why the last test of the profile `NAME` failed, as its server's administrator sees it"},
	"since-last": {about: "what was added and taken since the last list of these rights", other: "diff changes"},
	"exact":      {about: "documents with the type of each value (canonical Extended JSON)", other: "canonical"},
	"no-header":  {about: "without a line of the columns' names"},
	"state":      {about: "what to take: the state before the last change, or what is there now", other: "from"},
	"list":       {about: "list the agreements"},
	"settings": {about: "with --stay: also write the variables that a shell needs to this new `FILE`, which " +
		"goes at the end"},
	"stay":        {about: "leave the servers up, to try the commands by hand"},
	"without-end": {about: "let it in until it is withdrawn"},
	"add":         {about: "make profiles of what is found, and test them"},
	"between": {about: "with CSV, the `SEPARATOR` between two fields, instead of a comma",
		other: "delimiter separator"},
	"columns": {about: "the columns of the fields, as `NAMES` with commas between them, instead of those in " +
		"the first line"},
	"null": {about: "the `WORDING` that stands for null in CSV and TSV, outside of quotes"},
	"each": {about: "run what changes something in each of several profiles, one after the other, and " +
		"ask for each"},
	"empty-first": {about: "delete the table's rows first, in the same transaction", other: "truncate"},
	"yes":         {about: "answer yes to what would be asked", other: "y force"},

	"database": {other: "dbname db db-name schema",
		hint: "; a schema inside it is named in the statement, or by --option search_path=NAME"},
	"engine":   {other: "type driver dialect"},
	"host":     {other: "hostname server address dbhost"},
	"label":    {other: "tag"},
	"expect":   {about: "a fact that a test must show, as `NAME=VALUE` (superuser=false); may be repeated"},
	"timeout":  {other: "connect-timeout"},
	"tls":      {other: "sslmode ssl-mode ssl", hint: tlsModes},
	"tls-ca":   {other: "ssl-ca sslrootcert"},
	"tls-cert": {other: "ssl-cert sslcert"},
	"tls-key":  {other: "ssl-key sslkey"},
	"user":     {other: "username login user-name"},
	"via":      {other: "jump ssh tunnel bastion proxy"},
}

// noFlagFor says why there is no flag for a word of the trade, and what does it.
var noFlagFor = map[string]string{
	"password": noPassword, "passwd": noPassword, "pass": noPassword, "pwd": noPassword,
	"p":   "flags are whole words: --port takes a port, and " + noPassword,
	"url": asString, "uri": asString, "dsn": asString, "connection-string": asString,
	"command": asStatement, "execute": asStatement,
	"verbose": showsAll, "debug": showsAll, "insecure": unchecked, "no-verify": unchecked,
	"quiet":   "the exit code says the result, and what is printed can be sent elsewhere: > /dev/null",
	"profile": "the profile's name is written alone", "from-test": "it tests by itself",
}

const (
	noPassword = "no flag takes a password's text, since others on this machine could read it; use --secret with one of " +
		secret.Forms
	asString    = "a connection string is written without a flag, or as - on standard input"
	asStatement = "a statement is written without a flag, after the profile: gharbor run NAME \"select 1\""
	showsAll    = "a test always shows each leg; --json shows all that it knows"
	unchecked   = "--tls encrypt encrypts and does not check who answers; --tls off does not encrypt"
)

// meansFlag gives the flag of a command that means the same as a word that is none of its flags,
// "" for none.
func meansFlag(word string, known []string) string {
	for _, name := range known {
		if slices.Contains(strings.Fields(flagMeanings[name].other), word) {
			return name
		}
	}
	return ""
}

// exampleValues has a value for each kind of value, and for flags whose kind has no value that
// fits them all.
var exampleValues = sync.OnceValue(func() map[string]string {
	return map[string]string{
		"ACCOUNT": "fellside", "ADDRESS": "db.fellside.example:5432", "ALIAS": "bookings", "CONTAINER": "db",
		"DURATION": "5s", "ENGINE": known.Names()[0], "FILE": "./file",
		"FINGERPRINT": "SHA256:" + strings.Repeat("A", 43),
		"FOLDER":      "./folder", "HOP": "ops@gate.fellside.example", "HOST": "db.fellside.example",
		"LABEL": "season=summer", "METHOD": "scram-sha-256", "MODE": "verify", "NAME": "bunkhouse",
		"NAME=VALUE": "season=summer", "NOTE": "'for the season'",
		"NUMBER": "5", "ORDER": "random", "PATH": "/run/bunkhouse", "SOURCES": "listening", "PORT": "5432",
		"RANGE": "203.0.113.0/28", "REFERENCE": "wallet", "ROLE": "primary", "SERVER": "fellside/bunkhouse",
		"SETTING": "port", "SIZE": "200MB",
		"SOURCE": "env:HUT_PASSWORD", "STATEMENT": "'set time zone utc'", "TEXT": "'for the season'", "TIME": "30s",
		"USER": "warden_app", "VARIABLE": "HUT_DATABASE", "VARIABLE=WHAT": "HUT_DATABASE=uri",
		"no|session|transaction": "session", "LEVEL": "read-only",

		"TERM": "pull", "TABLE": "booking", "--of": "reader", "--like": "book*", "--at": "huts/local",
		"SEPARATOR": "';'", "NAMES": "name,height", "WORDING": "NULL", "NAME:KIND=VALUE": "beds:integer=12",
		"NAME=FILE": "photo=hut.jpg", "--alias": "bookings", "--base": "huts/base",
		"--expect": "superuser=false", "--option": "search_path=bunkhouse",
		"--server": "db.fellside.example:5432", "--user": "warden_app", "--role": "reader",
		"--srv":             "_bookings._tcp.fellside.example",
		"--tls-server-name": "db.fellside.example", "--socket-owner": "bunkhouse", "--secret": "wallet",
	}
})

// meaningOf gives the text of a flag.
func meaningOf(name string) string {
	if m := flagMeanings[name]; m.about != "" {
		return m.about
	}
	for _, list := range [][]profile.Setting{profile.Settings, profile.AliasSettings} {
		for _, s := range list {
			if s.Flag == name {
				return s.Meaning()
			}
		}
	}
	panic("the flag --" + name + " has no text")
}
