package postgres

import (
	"bytes"
	"strings"

	"gentle-harbor/internal/engine"
)

// options are the session settings that a profile may set.
var options = []string{
	"application_name", "DateStyle", "IntervalStyle", "TimeZone", "default_transaction_isolation",
	"default_transaction_read_only", "idle_in_transaction_session_timeout", "lock_timeout", "search_path",
	"statement_timeout", "work_mem",
}

// Info implements engine.Engine.
func (Engine) Info() engine.Info {
	return engine.Info{
		Name: "postgres", Family: "postgres", Title: "PostgreSQL", Port: 5432, Database: "postgres",
		Language: language, Can: []engine.Ability{engine.Leads, engine.Runs, engine.Lists, engine.Grants,
			engine.Pools, engine.Loads, engine.Surveys, engine.Examines},
		Instead: map[string]string{"dbname": "database", "passfile": "secret", "ssl-mode": "tls mode",
			"ssl-ca": "tls ca", "ssl-cert": "tls cert", "ssl-key": "tls key"},
		Options:  options,
		Methods:  []string{"scram-sha-256", "scram-sha-256-plus", "md5", "password", engine.NothingAsked},
		Accounts: []string{"postgres"},
		Schemes:  []string{"postgres", "postgresql"}, Words: []string{"postgres", "postgresql", "pgsql", "pg"},
		Prefixes: []string{"POSTGRES", "PG"},
		Pairs:    true, // "Keyword/Value Connection Strings", the same
		// "Connection URIs", PostgreSQL's manual.
		Parameters: map[string]string{"mode": "sslmode", "ca": "sslrootcert", "cert": "sslcert",
			"key": "sslkey", "off": "disable", "encrypt": "require", "verify": "verify-full",
			"address": "hostaddr", "timeout": "connect_timeout", "option": "application_name", "options": "options"},
		// The question for encryption (SSLRequest): "Message Formats", PostgreSQL's manual.
		Opening: []byte{0, 0, 0, 8, 4, 210, 22, 47}, Processes: []string{"postgres", "postmaster"},
		Binding: "postgresql",
		Image: engine.Image{
			Repositories: []string{"postgres", "postgis", "postgresql", "pgvector", "timescaledb"},
			Accounts: []engine.ImageAccount{{
				Users: []string{"POSTGRES_USER", "POSTGRESQL_USERNAME", "POSTGRESQL_USER"}, Usual: "postgres",
				Passwords: []string{"POSTGRES_PASSWORD", "POSTGRESQL_PASSWORD"},
				Empty:     []string{"ALLOW_EMPTY_PASSWORD"}, Password: "alter user {user} password '…'",
			}},
			Databases: []string{"POSTGRES_DB", "POSTGRESQL_DATABASE"}, UserNames: true,
			Hosts:    []string{"POSTGRESQL_MASTER_HOST"},
			Trusting: []string{"POSTGRES_HOST_AUTH_METHOD=trust"},
			Folders: []string{"/var/lib/postgresql/data", "/var/lib/postgresql", "/bitnami/postgresql",
				"/var/lib/pgsql/data"},
			FolderVariable: "PGDATA", Firsts: []string{"PG_VERSION"},
			Setting: []string{"initdb", "listen_addresses=''", "listen_addresses= ", "listen_addresses=\"\""},
		},
		SocketFile: ".s.PGSQL.",
		Listens:    "port, listen_addresses, unix_socket_directories",
		Sockets:    []string{"/run/postgresql/.s.PGSQL.*", "/var/run/postgresql/.s.PGSQL.*", "/tmp/.s.PGSQL.*"},
		Started: []engine.Started{
			{Needs: "/run/systemd/system", Found: "/lib/systemd/system/postgresql*.service",
				Proof: "a system service {name} is installed", Start: "sudo systemctl start {name}"},
			{Needs: "/run/systemd/system", Found: "/usr/lib/systemd/system/postgresql*.service",
				Proof: "a system service {name} is installed", Start: "sudo systemctl start {name}"},
			{Needs: "/run/systemd/system", Found: "/etc/systemd/system/postgresql*.service",
				Proof: "a system service {name} is installed ({path})", Start: "sudo systemctl start {name}"},
			{Found: "/etc/init.d/postgresql", Proof: "a service {name} is installed ({path})",
				Start: "sudo service {name} start"},
			{Found: "/opt/homebrew/opt/postgresql*",
				Proof: "the package manager's {name} is installed ({path})", Start: "brew services start {name}"},
			{Found: "/usr/local/opt/postgresql*", Proof: "the package manager's {name} is installed ({path})",
				Start: "brew services start {name}"},
			{Found: "/usr/lib/postgresql/*/bin/postgres",
				Proof: "the program {path} is installed, and no service of this machine starts it"},
		},
	}
}

// Advice implements engine.Engine.
func (Engine) Advice(about engine.Subject) engine.Advice {
	return engine.Advice{
		Quote: `"`, FirstDatabase: "postgres",
		Account: "select rolname, rolcanlogin, rolvaliduntil from pg_roles where rolname = '" +
			strings.ReplaceAll(about.User, "'", "''") + "'",
		Connections: "select usename, client_addr, count(*) from pg_stat_activity group by 1, 2",
		Holders: "select pid, usename, state, query from pg_stat_activity where state <> 'idle' and pid <> " +
			"pg_backend_pid()",
		Create:    "create database " + quote(about.Database),
		Rules:     "select * from pg_hba_file_rules",
		Limit:     "alter role " + quote(about.User) + " connection limit -1",
		BaseLimit: "alter database " + quote(about.Database) + " connection limit -1",
		Grant:     "grant connect on database " + quote(about.Database) + " to " + quote(about.User),
	}
}

// Identify implements engine.Engine, by what the server answers to a question about encryption.
func (Engine) Identify(first []byte) (engine.Answer, bool) {
	switch {
	case len(first) == 1 && (first[0] == 'S' || first[0] == 'N'):
		return engine.Answer{Kind: "postgres", Title: "a PostgreSQL server"}, true
	case len(first) >= 9 && first[0] == 'E' && first[1] == 0 && first[5] == 'S':
		return engine.Answer{Kind: "postgres", Title: "a PostgreSQL server", Busy: errorField(first[5:], 'M')}, true
	}
	return engine.Answer{}, false
}

// errorField reads a field of a PostgreSQL ErrorResponse's body.
func errorField(body []byte, want byte) string {
	for _, field := range bytes.Split(body, []byte{0}) {
		if len(field) > 1 && field[0] == want {
			return string(field[1:])
		}
	}
	return ""
}
