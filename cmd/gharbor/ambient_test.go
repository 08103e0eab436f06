//go:build unix

package main

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
)

// TestNothingAmbientChangesAConnection sets all that drivers and their servers' own programs read
// by themselves to something wrong, one after the other and all together.
func TestNothingAmbientChangesAConnection(t *testing.T) {
	t.Parallel()
	pg, maria := realPostgres(t), realMariaDB(t)
	w := newWorld(t, "PW="+canary)
	wrong := w.write("wrong.pem", "no certificate")
	w.write(".pgpass", "*:*:*:*:wrong\n")
	w.write(".pg_service.conf", "[wrong]\nhost=192.0.2.1\nport=1\nuser=wrong\npassword=wrong\n")
	w.write(".postgresql/root.crt", "no certificate")
	w.write(".postgresql/postgresql.crt", "no certificate")
	w.write(".postgresql/postgresql.key", "no key")
	w.write(".my.cnf", "[client]\nhost=192.0.2.1\nport=1\nuser=wrong\npassword=wrong\n")
	ambient := []string{
		"PGHOST=192.0.2.1", "PGHOSTADDR=192.0.2.1", "PGPORT=1", "PGDATABASE=wrong", "PGUSER=wrong", "PGPASSWORD=wrong",
		"PGPASSFILE=" + wrong, "PGSERVICE=wrong", "PGSERVICEFILE=" + filepath.Join(w.home, ".pg_service.conf"),
		"PGSSLMODE=verify-full",
		"PGSSLROOTCERT=" + wrong, "PGSSLCERT=" + wrong, "PGSSLKEY=" + wrong, "PGSSLPASSWORD=wrong",
		"PGSSLSNI=0", "PGSSLNEGOTIATION=direct", "PGSSLCERTMODE=require",
		"PGOPTIONS=-c search_path=wrong", "PGAPPNAME=wrong", "PGCONNECT_TIMEOUT=1",
		"PGTARGETSESSIONATTRS=standby", "PGTZ=Wrong/Zone",
		"PGCHANNELBINDING=require", "PGREQUIREAUTH=md5", "PGMINPROTOCOLVERSION=3.2", "PGMAXPROTOCOLVERSION=3.2",
		"PGKRBSRVNAME=wrong", "PGGSSENCMODE=require",
		"PGDATESTYLE=wrong", "PGCLIENTENCODING=wrong", "PGREQUIRESSL=1",
		"MYSQL_HOST=192.0.2.1", "MYSQL_TCP_PORT=1", "MYSQL_PWD=wrong", "MYSQL_UNIX_PORT=/wrong", "MYSQL_HOME=" + w.home,
		"MARIADB_HOST=192.0.2.1", "USER=wrong", "DATABASE_URL=postgres://wrong@192.0.2.1/wrong",
	}
	p := w.save("p", "postgres", pg.warden()...)
	m := w.save("m", "mysql", maria.warden()...)
	bare := w.environ
	facts := func(name string) string {
		r := w.report(name)
		if !r.OK {
			return fmt.Sprintf("%+v", r.Finding)
		}
		r.Server.Session = ""
		return fmt.Sprintf("%+v %v %v %s", *r.Server, *r.Server.Superuser, *r.Server.ReadOnly, r.Attempts[0].Address)
	}
	settings := func() string {
		return w.must(0, "run", p, "--json", "select current_setting('application_name'), "+
			"current_setting('search_path'), current_setting('TimeZone'), current_setting('DateStyle'), "+
			"current_setting('client_encoding')").out
	}
	strip := func(text string) string { // pointers print as addresses
		var kept []string
		for _, word := range strings.Fields(text) {
			if !strings.Contains(word, "0x") {
				kept = append(kept, word)
			}
		}
		return strings.Join(kept, " ")
	}
	wantP, wantM, wantSettings := strip(facts(p)), strip(facts(m)), settings()
	if !strings.Contains(wantP, "warden_app") || !strings.Contains(wantM, "warden_app") {
		t.Fatalf("%s\n%s", wantP, wantM)
	}
	for i := -1; i < len(ambient); i++ {
		name := "all together"
		w.environ = append(bare[:len(bare):len(bare)], ambient...)
		if i >= 0 {
			name = ambient[i]
			w.environ = append(bare[:len(bare):len(bare)], ambient[i])
		}
		if got := strip(facts(p)); got != wantP {
			t.Errorf("%s changes PostgreSQL's connection:\n%s\n%s", name, got, wantP)
		}
		if got := settings(); got != wantSettings {
			t.Errorf("%s changes PostgreSQL's session: %s", name, got)
		}
		if got := strip(facts(m)); got != wantM {
			t.Errorf("%s changes MariaDB's connection:\n%s\n%s", name, got, wantM)
		}
	}
}
