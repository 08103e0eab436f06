package mysql

import (
	"bytes"
	"strings"

	"gentle-harbor/internal/engine"
)

// options are the session settings that a profile may set.
var options = []string{
	"group_concat_max_len", "innodb_lock_wait_timeout", "lock_wait_timeout", "max_execution_time",
	"max_statement_time", "sql_mode", "time_zone", "transaction_isolation", "transaction_read_only",
	"tx_isolation", "wait_timeout",
}

// Info implements engine.Engine.
func (e Engine) Info() engine.Info {
	info := engine.Info{
		Name: "mysql", Family: "mysql", Title: "MySQL", Port: 3306,
		Language: language(), Can: []engine.Ability{engine.Leads, engine.Runs, engine.Lists, engine.Grants,
			engine.Pools, engine.Loads, engine.Surveys, engine.Examines},
		Instead: map[string]string{"connect_timeout": "timeout", "sslmode": "tls mode",
			"sslrootcert": "tls ca", "sslcert": "tls cert", "sslkey": "tls key"},
		Options:  options,
		Methods:  []string{caching, native, curve, sha256, clearText, engine.NothingAsked},
		Accounts: []string{"mysql"},
		Schemes:  []string{"mysql"}, Words: []string{"mysql", "mysql2", "mysqli"}, Prefixes: []string{"MYSQL"},
		Milliseconds: true,
		// "Connecting to the Server Using URI-Like Strings", MySQL's manual.
		Parameters: map[string]string{"mode": "ssl-mode", "ca": "ssl-ca", "cert": "ssl-cert", "key": "ssl-key",
			"off": "DISABLED", "encrypt": "REQUIRED", "verify": "VERIFY_IDENTITY", "timeout": "connect-timeout"},
		Binding: "mysql", Processes: []string{"mysqld", "mariadbd"},
		Image: engine.Image{
			Repositories: []string{"mysql", "mysql-server", "percona", "percona-server"},
			Accounts: []engine.ImageAccount{
				{Users: []string{"MYSQL_USER"}, Passwords: []string{"MYSQL_PASSWORD"},
					Password: "alter user {user} identified by '…'"},
				{Usual: "root", Passwords: []string{"MYSQL_ROOT_PASSWORD"},
					Empty:  []string{"MYSQL_ALLOW_EMPTY_PASSWORD", "ALLOW_EMPTY_PASSWORD"},
					Random: []string{"MYSQL_RANDOM_ROOT_PASSWORD"}, Password: "alter user {user} identified by '…'"},
			},
			Databases: []string{"MYSQL_DATABASE"},
			Hosts:     []string{"MYSQL_ROOT_HOST", "MYSQL_MASTER_HOST"},
			Folders:   []string{"/var/lib/mysql", "/bitnami/mysql", "/bitnami/mariadb"},
			Firsts:    []string{"auto.cnf", "mysql/global_priv.frm", "mysql/db.frm"},
			Setting:   []string{"--skip-networking", "--initialize", "mariadb-install-db", "mysql_install_db", "--bootstrap"},
		},
		Listens: "port, bind_address, skip_networking, socket",
		Sockets: []string{"/run/mysqld/mysqld.sock", "/var/run/mysqld/mysqld.sock", "/tmp/mysql.sock",
			"/var/lib/mysql/mysql.sock"},
		Started: []engine.Started{
			{Needs: "/run/systemd/system", Found: "/lib/systemd/system/mariadb.service",
				Proof: "a system service {name} is installed", Start: "sudo systemctl start {name}"},
			{Needs: "/run/systemd/system", Found: "/lib/systemd/system/mysql*.service",
				Proof: "a system service {name} is installed", Start: "sudo systemctl start {name}"},
			{Needs: "/run/systemd/system", Found: "/usr/lib/systemd/system/mariadb.service",
				Proof: "a system service {name} is installed", Start: "sudo systemctl start {name}"},
			{Needs: "/run/systemd/system", Found: "/usr/lib/systemd/system/mysql*.service",
				Proof: "a system service {name} is installed", Start: "sudo systemctl start {name}"},
			{Needs: "/run/systemd/system", Found: "/etc/systemd/system/mariadb.service",
				Proof: "a system service {name} is installed ({path})", Start: "sudo systemctl start {name}"},
			{Needs: "/run/systemd/system", Found: "/etc/systemd/system/mysql*.service",
				Proof: "a system service {name} is installed ({path})", Start: "sudo systemctl start {name}"},
			{Found: "/etc/init.d/mariadb", Proof: "a service {name} is installed ({path})", Start: "sudo service {name} start"},
			{Found: "/etc/init.d/mysql", Proof: "a service {name} is installed ({path})", Start: "sudo service {name} start"},
			{Found: "/opt/homebrew/opt/m[ya][sr]*", Proof: "the package manager's {name} is installed ({path})",
				Start: "brew services start {name}"},
			{Found: "/usr/local/opt/m[ya][sr]*", Proof: "the package manager's {name} is installed ({path})",
				Start: "brew services start {name}"},
			{Found: "/opt/lampp/lampp", Proof: "a bundle for web developers is installed ({path})",
				Start: "sudo {path} startmysql"},
			{Found: "/usr/sbin/mariadbd", Proof: "the program {path} is installed, and no service of this machine starts it"},
			{Found: "/usr/sbin/mysqld", Proof: "the program {path} is installed, and no service of this machine starts it"},
		},
	}
	if e.MariaDB {
		info.Name, info.Title, info.Schemes, info.Words, info.Prefixes = "mariadb", "MariaDB",
			[]string{"mariadb"}, []string{"mariadb"}, []string{"MARIADB"}
		info.Image.Repositories = []string{"mariadb"}
		for i := range info.Image.Accounts { // its images take both names, their own first
			a := &info.Image.Accounts[i]
			for _, list := range []*[]string{&a.Users, &a.Passwords, &a.Empty, &a.Random} {
				*list = ownFirst(*list)
			}
		}
		info.Image.Accounts[1].Empty = append(info.Image.Accounts[1].Empty, "MARIADB_ALLOW_EMPTY_ROOT_PASSWORD")
		info.Image.Databases, info.Image.Hosts = ownFirst(info.Image.Databases), ownFirst(info.Image.Hosts)
	}
	return info
}

// ownFirst puts MariaDB's names of variables before MySQL's.
func ownFirst(names []string) []string {
	var list []string
	for _, name := range names {
		if rest, is := strings.CutPrefix(name, "MYSQL_"); is {
			list = append(list, "MARIADB_"+rest)
		}
	}
	return append(list, names...)
}

// Advice implements engine.Engine.
func (Engine) Advice(about engine.Subject) engine.Advice {
	grant, unlock, limit, password := "", "", "", ""
	if user, host, ok := account(about.Account); ok {
		name := quote(user) + "@" + quote(host)
		grant, unlock = "grant select on "+quote(about.Database)+".* to "+name, "alter user "+name+" account unlock"
		limit = "alter user " + name +
			" with max_user_connections 0 max_connections_per_hour 0 max_queries_per_hour 0 max_updates_per_hour 0"
		password = "alter user " + name + " identified by '…'"
	}
	return engine.Advice{
		Quote: "`", FirstDatabase: "information_schema",
		Hidden: ", or there is no such database: the server does not say which",
		Account: "select user, host, plugin from mysql.user where user = '" + strings.ReplaceAll(about.User,
			"'", "''") + "'",
		Connections: "show processlist", Holders: "show processlist",
		Rules: "select user, host, plugin, ssl_type, password_expired from mysql.user where user in ('" +
			strings.ReplaceAll(about.User, "'", "''") + "', '')",
		Create: "create database " + quote(about.Database),
		Grant:  grant, Unlock: unlock, Limit: limit, Password: password,
	}
}

// account takes the server's name of an account apart: the host follows the last "@".
func account(name string) (user, host string, ok bool) {
	at := strings.LastIndexByte(name, '@')
	if at < 1 {
		return "", "", false
	}
	return name[:at], name[at+1:], true
}

// Identify implements engine.Engine, by the server's initial handshake or its error instead of
// one. The two kinds are told apart by the version; an error that does not say is MySQL's.
func (e Engine) Identify(first []byte) (engine.Answer, bool) {
	a, ok := identify(first)
	return a, ok && (a.Kind == "mariadb") == e.MariaDB
}

func identify(data []byte) (engine.Answer, bool) {
	if len(data) < 6 || data[3] != 0 {
		return engine.Answer{}, false
	}
	size := int(data[0]) | int(data[1])<<8 | int(data[2])<<16
	body := data[4:]
	switch {
	case body[0] == 10 && size > 20 && size < 4096:
		version, _, ok := bytes.Cut(body[1:], []byte{0})
		if !ok || len(version) == 0 {
			return engine.Answer{}, false
		}
		kind, title := "mysql", "a MySQL server"
		text := strings.TrimPrefix(string(version), "5.5.5-")
		if strings.Contains(strings.ToLower(text), "mariadb") {
			kind, title = "mariadb", "a MariaDB server"
		}
		return engine.Answer{Kind: kind, Title: title, Version: text}, true
	case body[0] == 0xff && size >= 3 && size < 4096:
		message := body[3:]
		message = message[:min(len(message), max(size-3, 0))]
		if len(message) > 6 && message[0] == '#' {
			message = message[6:]
		}
		a := engine.Answer{Kind: "mysql", Title: "a MySQL or MariaDB server", Busy: string(message)}
		if bytes.Contains(message, []byte("MariaDB")) {
			a.Kind, a.Title = "mariadb", "a MariaDB server"
		}
		return a, true
	}
	return engine.Answer{}, false
}
