package cli

import "gentle-harbor/internal/secret"

// other is what to use in the place of a word of the trade that is no flag here.
type other struct {
	flag string // "" where no flag does it
	why  string // what follows in the sentence
}

const noPassword = "no flag takes a password's text, since others on this machine could read it; use --secret with one of " + secret.Forms

// insteadOf maps words of the trade to the flags that mean the same, or says why there is none.
var insteadOf = map[string]other{
	"username": {flag: "user"}, "login": {flag: "user"}, "user-name": {flag: "user"},
	"dbname": {flag: "database"}, "db": {flag: "database"}, "db-name": {flag: "database"}, "schema": {flag: "database", why: "; a schema inside it is named in the statement, or by --option search_path=NAME"},
	"hostname": {flag: "host"}, "server": {flag: "host"}, "address": {flag: "host"}, "dbhost": {flag: "host"},
	"type": {flag: "engine"}, "driver": {flag: "engine"}, "dialect": {flag: "engine"},
	"sslmode": {flag: "tls", why: ", with off, encrypt or verify"}, "ssl-mode": {flag: "tls", why: ", with off, encrypt or verify"}, "ssl": {flag: "tls", why: ", with off, encrypt or verify"},
	"ssl-ca": {flag: "tls-ca"}, "sslrootcert": {flag: "tls-ca"}, "ssl-cert": {flag: "tls-cert"}, "sslcert": {flag: "tls-cert"}, "ssl-key": {flag: "tls-key"}, "sslkey": {flag: "tls-key"},
	"jump": {flag: "via"}, "ssh": {flag: "via"}, "tunnel": {flag: "via"}, "bastion": {flag: "via"}, "proxy": {flag: "via"},
	"format": {flag: "as"}, "output-format": {flag: "as"}, "output": {flag: "to", why: "; in which form is said by --as"}, "out": {flag: "to"}, "file": {flag: "to"},
	"force": {flag: "replace", why: ", which overwrites"}, "overwrite": {flag: "replace"}, "wait": {flag: "for"}, "connect-timeout": {flag: "timeout"}, "tag": {flag: "label"},
	"password": {why: noPassword}, "passwd": {why: noPassword}, "pass": {why: noPassword}, "pwd": {why: noPassword}, "p": {why: "flags are whole words: --port takes a port, and " + noPassword},
	"password-file": {flag: "secret-file"}, "passfile": {flag: "secret-file"},
	"url": {why: "a connection string is given without a flag, or as - on standard input"}, "uri": {why: "a connection string is given without a flag, or as - on standard input"},
	"dsn": {why: "a connection string is given without a flag, or as - on standard input"}, "connection-string": {why: "it is given without a flag, or as - on standard input"},
	"command": {why: "a statement is given without a flag, after the profile: gharbor run NAME \"select 1\""}, "execute": {why: "a statement is given without a flag, after the profile: gharbor run NAME \"select 1\""},
	"verbose": {why: "a test always shows each leg; --json shows all that it knows"}, "debug": {why: "a test always shows each leg; --json shows all that it knows"},
	"insecure": {why: "--tls encrypt encrypts and does not check who answers; --tls off does not encrypt"}, "no-verify": {why: "--tls encrypt encrypts and does not check who answers; --tls off does not encrypt"},
	"csv": {why: "the form is said by --as csv"}, "quiet": {why: "the exit code says how it went, and what is printed can be sent elsewhere: > /dev/null"},
}

// insteadOfCommand maps words of the trade to the commands that do it.
var insteadOfCommand = map[string]string{
	"connect": "gharbor test NAME tests a connection, gharbor run NAME STATEMENT uses it", "ping": "gharbor test NAME tests a connection; --until greeting goes no further than the server's greeting",
	"new": "gharbor add NAME makes a profile", "create": "gharbor add NAME makes a profile", "save": "gharbor add NAME makes a profile", "init": "gharbor add NAME makes the first profile, and nothing is needed before it",
	"delete": "gharbor remove NAME removes a profile", "rm": "gharbor remove NAME removes a profile", "drop": "gharbor remove NAME removes a profile", "ls": "gharbor list lists the profiles", "profiles": "gharbor list lists the profiles",
	"mv": "gharbor rename OLD NEW renames a profile", "cp": "gharbor copy NAME NEW copies a profile", "set": "gharbor change NAME changes a profile's settings", "update": "gharbor change NAME changes a profile's settings", "config": "gharbor show NAME shows a profile's settings, and gharbor change NAME changes them",
	"exec": "gharbor run NAME STATEMENT runs a statement; gharbor with NAME -- PROGRAM runs a program", "query": "gharbor run NAME STATEMENT runs a statement", "sql": "gharbor run NAME STATEMENT runs a statement", "shell": "gharbor run NAME STATEMENT runs a statement",
	"tunnel": "gharbor hold NAME keeps a local address open that leads to the database", "forward": "gharbor hold NAME keeps a local address open that leads to the database", "proxy": "gharbor hold NAME keeps a local address open that leads to the database", "open": "gharbor hold NAME keeps a local address open that leads to the database",
	"close": "gharbor release NAME closes a door", "stop": "gharbor release NAME closes a door", "status": "gharbor list shows the profiles with their last tests, gharbor doors the open doors", "ps": "gharbor doors lists the open doors",
	"wait": "gharbor await NAME waits for a server", "check": "gharbor test NAME tests a connection, gharbor audit the files", "doctor": "gharbor audit looks for what is unsafe, gharbor test NAME for what keeps a connection from working",
	"secret": "gharbor wallet keeps passwords", "password": "gharbor wallet keeps passwords", "passwords": "gharbor wallet keeps passwords", "login": "gharbor test NAME logs in and says how it went", "discover": "gharbor find finds servers on this machine", "scan": "gharbor find finds servers on this machine",
	"databases": "gharbor survey NAME databases lists them", "explain": "gharbor meaning CODE explains a finding", "env": "gharbor export NAME --as env prints variables; gharbor with NAME -- PROGRAM hands them to a program", "diff": "gharbor history NAME shows what changed since the last good test",
}
