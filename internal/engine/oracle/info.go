package oracle

import (
	"bytes"
	"encoding/binary"
	"net"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"gentle-harbor/internal/engine"
)

// optionNames are the session settings that a profile may set ("ALTER SESSION", the engine's SQL
// Language Reference).
var optionNames = []string{
	"current_schema", "ddl_lock_timeout", "isolation_level", "nls_calendar", "nls_comp", "nls_date_format",
	"nls_date_language", "nls_language", "nls_length_semantics",
	"nls_numeric_characters", "nls_sort", "nls_territory", "nls_timestamp_format", "nls_timestamp_tz_format",
	"optimizer_mode", "time_zone",
}

// language is "Lexical Conventions" and "Types of SQL Statements", the engine's SQL Language
// Reference.
var language = engine.Language{Name: "SQL", Lexical: engine.Lexical{Quotes: `'"`, Names: `"`},
	Types: []string{"date", "timestamp", "interval"},
	Committing: []string{"administer", "alter", "analyze", "associate", "audit", "comment", "commit",
		"create", "disassociate", "drop", "flashback", "grant", "noaudit", "purge", "rename", "revoke",
		"rollback", "truncate", "begin", "declare", "call"},
	NotCommitting: []string{"rollback to", "alter session", "alter system"},
	Staying:       []string{"alter session", "set role"},
	Compound:      true,
	Whole:         []string{"begin", "declare"},
	Single:        true,
	Begins: strings.Fields(`administer alter analyze associate audit begin call comment commit create declare delete disassociate drop explain flashback grant insert lock merge noaudit purge
		rename revoke rollback savepoint select set truncate update with`),
	Reading: engine.Reading{
		Reads:       []string{"select", "with"},
		Unless:      []string{"for update"},
		Inner:       []string{"update", "delete", "insert", "merge", "function", "procedure"},
		Native:      natives(),
		Transaction: []string{"commit", "rollback", "savepoint", "set"},
		Beginning:   []string{"set transaction"},
		Settings:    optionNames,
		Destroys:    []string{"drop database", "drop schema", "drop table", "drop user", "drop tablespace", "truncate"},
		Wherever:    []string{"update", "delete"},
	},
}

// natives are the engine's own functions ("Functions", its SQL Language Reference), and the words
// behind which a bracket stands. What is left out here is only taken for a change.
func natives() map[string]bool {
	all := map[string]bool{}
	for _, word := range strings.Fields(`
		abs acos add_months all and any as ascii asciistr asin atan atan2 avg bfilename bin_to_num bitand by cardinality case cast ceil char chartorowid chr coalesce compose concat convert
		corr cos cosh count covar_pop covar_samp cume_dist current_date current_timestamp date dbtimezone decode decompose dense_rank distinct else exists exp extract first_value floor from
		greatest group grouping having hextoraw in initcap instr intersect interval is json_array json_exists json_object json_query json_table json_value lag last_day last_value lead least
		length lengthb like listagg ln localtimestamp log lower lpad ltrim max median min minus mod months_between nanvl new_time next_day not nth_value ntile null nullif number
		numtodsinterval numtoyminterval nvl nvl2 on or ora_hash order over partition percent_rank percentile_cont percentile_disc power rank ratio_to_report rawtohex regexp_count
		regexp_instr regexp_like regexp_replace regexp_substr remainder replace round row_number rowidtochar rpad rtrim select sessiontimezone sign sin sinh soundex sqrt standard_hash
		stddev stddev_pop stddev_samp substr substrb sum sys_context sys_guid sysdate systimestamp tan tanh then timestamp to_binary_double to_binary_float to_char to_clob to_date
		to_dsinterval to_multi_byte to_nchar to_number to_single_byte to_timestamp to_timestamp_tz to_yminterval translate treat trim trunc tz_offset uid union upper user userenv using
		values var_pop var_samp varchar2 variance vsize when where with xmltable`) {
		all[word] = true
	}
	return all
}

// Info implements engine.Engine.
func (Engine) Info() engine.Info {
	return engine.Info{
		Name: "oracle", Family: "oracle", Title: "Oracle Database", Port: ports[false], Serves: true,
		EncryptsFirst: true, Modes: []string{"sysdba", "sysoper"},
		Language: language, Can: []engine.Ability{engine.Leads, engine.Runs},
		Options:  optionNames,
		Methods:  []string{newVerifier, oldVerifier},
		Accounts: []string{"oracle"},
		Schemes:  []string{"oracle"}, Words: []string{"oracle", "oracledb", "oci8", "godror"}, Prefixes: []string{"ORACLE"},
		Parameters: map[string]string{"mode": "ssl", "ca": "sslrootcert", "cert": "sslcert", "key": "sslkey",
			"off": "false", "encrypt": "true", "verify": "true", "unchecked": "ssl verify",
			"timeout": "timeout", "instance": "sid"},
		Binding: "oracle", Processes: []string{"tnslsnr"},
		Bare:    true,
		Opening: opening(),
		Listens: "LISTENER in listener.ora, LOCAL_LISTENER",
		Image: engine.Image{
			Repositories: []string{"oracle-free", "oracle-xe", "oracle-database"},
			Accounts: []engine.ImageAccount{
				{Users: []string{"APP_USER"}, Passwords: []string{"APP_USER_PASSWORD"},
					Password: `alter user {user} identified by "…"`},
				{Usual: "system", Passwords: []string{"ORACLE_PASSWORD", "ORACLE_PWD"},
					Random: []string{"ORACLE_RANDOM_PASSWORD"}, Password: `alter user {user} identified by "…"`},
			},
			Databases: []string{"ORACLE_DATABASE", "ORACLE_PDB"},
			Usual:     "FREEPDB1",
			Folders:   []string{"/opt/oracle/oradata"},
			Setting:   []string{"dbca", "createdb.sh", "createDB.sh"},
		},
		Started: []engine.Started{
			{Needs: "/run/systemd/system", Found: "/etc/systemd/system/oracle*.service",
				Proof: "a system service {name} is installed ({path})", Start: "sudo systemctl start {name}"},
			{Found: "/etc/init.d/oracle*", Proof: "a service {name} is installed ({path})", Start: "sudo service {name} start"},
		},
	}
}

// opening asks a listener for nothing: it says what it is when it refuses that.
func opening() []byte {
	data := []byte("(DESCRIPTION=(CONNECT_DATA=(CID=(PROGRAM=" + program + ")(HOST=" + program + ")(USER=" +
		program + "))))")
	kept := &keeping{}
	_ = (&stream{conn: kept}).connect(data, 0)
	return kept.sent
}

// keeping is a connection that keeps what is sent, and answers nothing.
type keeping struct {
	net.Conn
	sent []byte
}

func (k *keeping) Write(p []byte) (int, error) { k.sent = append(k.sent, p...); return len(p), nil }
func (*keeping) Read([]byte) (int, error)      { return 0, net.ErrClosed }

// versions finds the listener's version in a refusal.
var versions = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)\(\s*VSNNUM\s*=\s*(\d{1,10})\s*\)`)
})

// Identify implements engine.Engine, by a listener's answer to a connect packet: it refuses,
// accepts, hands on, or wants it again.
func (Engine) Identify(first []byte) (engine.Answer, bool) {
	if len(first) < headerSize || first[2] != 0 || first[3] != 0 || first[6] != 0 || first[7] != 0 {
		return engine.Answer{}, false
	}
	size := int(binary.BigEndian.Uint16(first))
	switch first[4] {
	case packetAccept, packetRefuse, packetRedirect, packetResend:
	default:
		return engine.Answer{}, false
	}
	if size < headerSize || size > earlyPacket {
		return engine.Answer{}, false
	}
	a := engine.Answer{Kind: "oracle", Title: "the listener of an Oracle Database server"}
	if met := versions().FindSubmatch(bytes.ToUpper(first)); met != nil {
		if n, err := strconv.ParseInt(string(met[1]), 10, 64); err == nil && n > 0 {
			newer := int64(0)
			if n>>24 >= 18 {
				newer = fields18
			}
			a.Version = versionText(n, newer)
		}
	}
	return a, true
}

// quote makes a name safe inside a statement. The engine takes names in capital letters unless
// they are in quotes, and so the name of an account that was written without capitals stands for
// one in capitals.
func quote(name string) string {
	if len(name) > 2 && name[0] == '"' && name[len(name)-1] == '"' {
		return name
	}
	return `"` + strings.ToUpper(strings.ReplaceAll(name, `"`, `""`)) + `"`
}

// Advice implements engine.Engine.
func (Engine) Advice(about engine.Subject) engine.Advice {
	user := quote(about.User)
	text := "'" + strings.ToUpper(strings.ReplaceAll(about.User, "'", "''")) + "'"
	return engine.Advice{
		Quote: `"`,
		Account: "select username, account_status, expiry_date, password_versions from dba_users where username = " +
			text,
		Connections: "select username, program, status from v$session",
		Holders:     "select username, program, status from v$session",
		Rules:       "select username, account_status, profile from dba_users where username = " + text,
		Unlock:      "alter user " + user + " account unlock",
		Password:    "alter user " + user + ` identified by "…"`,
		Session:     "grant create session to " + user,
	}
}
