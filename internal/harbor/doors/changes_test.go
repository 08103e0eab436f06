//go:build unix

package doors

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"

	"github.com/jackc/pgx/v5/pgconn"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/door"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/clouds"
	"gentle-harbor/internal/harbor/worldtest"
	"gentle-harbor/internal/standin"
)

// shifting is a name service whose SRV records can change.
type shifting struct {
	mu   sync.Mutex
	list worldtest.Records
}

func (s *shifting) become(list ...*net.SRV) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list = list
}

func (s *shifting) LookupNetIP(ctx context.Context, network, host string) ([]netip.Addr, error) {
	return worldtest.Records{}.LookupNetIP(ctx, network, host)
}

func (s *shifting) LookupSRV(ctx context.Context, service, proto, name string) (string, []*net.SRV, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.list.LookupSRV(ctx, service, proto, name)
}

func (s *shifting) LookupTXT(context.Context, string) ([]string, error) { return nil, nil }

// enters logs a client in at a door.
func enters(t *testing.T, h *Held, engine string, passing *tls.Config) error {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	if engine == "postgres" {
		host, port := h.Host, h.Port
		if h.Socket != "" {
			host, port = filepath.Dir(h.Socket), 5432
		}
		config, err := pgconn.ParseConfig(fmt.Sprintf("postgres://warden_app@/bunkhouse?host=%s&port=%d&sslmode=disable",
			url.QueryEscape(host), port))
		must(t, err)
		config.Password, config.TLSConfig = worldtest.Canary, passing
		conn, err := pgconn.ConnectConfig(ctx, config)
		if err == nil {
			_ = conn.Close(ctx)
		}
		return err
	}
	config := driver.NewConfig()
	config.User, config.Passwd, config.DBName, config.Net, config.Addr, config.TLS = "warden_app", worldtest.Canary, "bunkhouse", "tcp", h.Place(), passing
	if h.Socket != "" {
		config.Net = "unix"
	}
	connector, err := driver.NewConnector(config)
	must(t, err)
	db := sql.OpenDB(connector)
	defer db.Close()
	return db.PingContext(ctx)
}

// TestADoorAndWhatOthersSay opens doors of each form, with both engines, to what a cloud and a
// name service say: once these say another server, another authority or other targets, no client
// gets past the door, and it says why; when they say the same again, it lets in again.
func TestADoorAndWhatOthersSay(t *testing.T) {
	authority, err := standin.NewAuthority("Fellside doors authority")
	must(t, err)
	another, err := standin.NewAuthority("another authority")
	must(t, err)
	encryption, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), "db.fellside.example")
	must(t, err)
	w, _, _ := worldtest.New(t)
	r := harbor.New(w)
	r.Connects = true
	r.PassphraseFile = filepath.Join(r.Dir, "phrase")
	accounts := clouds.Clouds{Stores: r.Stores}
	must(t, os.WriteFile(r.PassphraseFile, []byte("a phrase for doors alone\n"), 0o600))
	names := &shifting{}
	w.Resolver = names
	home, err := r.Home()
	must(t, err)
	config, aliases := standin.CloudConfig{Who: "keeper@fellside.example", Mark: worldtest.Canary}, ""
	servers := map[string]*standin.Server{}
	for _, engine := range []string{"postgres", "mysql"} {
		s, err := standin.Start(standin.Config{Engine: engine,
			Accounts: map[string]string{"warden_app": worldtest.Canary}, TLS: encryption})
		must(t, err)
		t.Cleanup(s.Close)
		servers[engine] = s
		config.Servers = append(config.Servers,
			standin.CloudServer{ID: "srv-" + engine, Name: "huts-" + engine, Engine: engine,
				Behind: s.Address(), Authority: string(authority.PEM), CertificateName: "db.fellside.example"})
		aliases += fmt.Sprintf("of-%s: {engine: %s, srv: _%s._tcp.fellside.example, tls: {mode: 'off'}}\n",
			engine, engine, engine)
		worldtest.Save(t, w, "cloud-"+engine,
			"engine: "+engine+"\ncloud: fellside/huts-"+engine+"\nuser: warden_app\ndatabase: bunkhouse\nsecret: env:PW\n")
		worldtest.Save(t, w, "records-"+engine,
			"alias: of-"+engine+"\nuser: warden_app\ndatabase: bunkhouse\nsecret: env:PW\n")
	}
	must(t, os.WriteFile(filepath.Join(home, "aliases.yaml"), []byte(aliases), 0o600))
	c, err := standin.StartCloud(config)
	must(t, err)
	t.Cleanup(c.Close)
	for _, server := range []string{"srv-postgres", "srv-mysql"} {
		c.Admit(server, "127.0.0.0/8", nil, false)
	}
	if _, err := accounts.AddCloud(t.Context(), "fellside", c.URL(), "", false); err != nil {
		t.Fatal(err)
	}
	if _, _, err := accounts.SignIn(t.Context(), "fellside", func(*cloud.Asked) error {
		c.Confirm(true)
		return nil
	}, nil); err != nil {
		t.Fatal(err)
	}
	now, clock := time.Now(), sync.Mutex{}
	w.Clock = func() time.Time { clock.Lock(); defer clock.Unlock(); return now }
	for engine, s := range servers {
		id := "srv-" + engine
		record := func(host string) *net.SRV {
			return &net.SRV{Target: host + ".fellside.example.", Port: uint16(s.Port())}
		}
		for _, each := range []struct {
			name, what, code string
			change, back     func()
		}{
			{"cloud-", "the cloud's server", "cloud.server-changed",
				func() {
					c.Change(id,
						func(s *standin.CloudServer) { s.ID = "srv-9" })
				}, func() {
					c.Change("srv-9",
						func(s *standin.CloudServer) { s.ID = id })
				}},
			{"cloud-", "authority", "cloud.server-changed",
				func() { c.Change(id, func(s *standin.CloudServer) { s.Authority = string(another.PEM) }) },
				func() { c.Change(id, func(s *standin.CloudServer) { s.Authority = string(authority.PEM) }) }},
			{"records-", "targets", "alias.changed", func() { names.become(record("db2")) }, func() {
				names.become(record("db1"))
			}},
			{"records-", "one more of the targets", "alias.changed", func() {
				names.become(record("db0"), record("db1"))
			}, func() { names.become(record("db1")) }},
		} {
			for form, how := range map[string]Opening{"a port": {}, "a socket": {Socket: true},
				"pass-through": {Passing: true}} {
				title := fmt.Sprintf("%s%s, %s, %s", each.name, engine, form, each.what)
				names.become(record("db1"))
				how.Run = r
				doors, err := how.Open(t.Context(), []string{each.name + engine})
				if err != nil {
					t.Errorf("%s: %v", title, err)
					continue
				}
				h := doors.List[0]
				var passing *tls.Config
				if how.Passing && each.name == "cloud-" {
					pool := x509.NewCertPool()
					pool.AppendCertsFromPEM(authority.PEM)
					passing = &tls.Config{RootCAs: pool, ServerName: "db.fellside.example"}
				}
				if err := enters(t, h, engine, passing); err != nil {
					t.Errorf("%s, before: %v", title, err)
				}
				turn := func(change func()) {
					change()
					clock.Lock()
					now = now.Add(time.Hour)
					clock.Unlock()
				}
				logins := len(s.Opened())
				turn(each.change)
				for range 2 {
					if err := enters(t, h, engine, passing); err == nil {
						t.Errorf("%s: a client gets in", title)
					}
				}
				record := h.Record()
				if record.State != door.NeedsYou || !strings.Contains(record.Why, each.code) || len(s.Opened()) != logins {
					t.Errorf("%s: %s, %q, %d logins", title, record.State, record.Why, len(s.Opened())-logins)
				}
				turn(each.back)
				if err := enters(t, h, engine, passing); err != nil {
					t.Errorf("%s, back: %v", title, err)
				}
				doors.Close(0)
			}
		}
	}
}
