// Package demo is the scenario of Fellside Huts, a made-up society that books bunks in mountain
// huts: which practice servers there are, and the chapters of the demo, each with its steps.
package demo

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/standin"
)

// Passwords of the practice accounts, by the variable in which the demo's profiles look for them.
// They open nothing but the practice servers, which end with the demo.
var passwords = map[string]string{
	"HUT_WARDEN_PW": "ropes-and-lanterns-7",
	"HUT_READER_PW": "reading-by-the-stove",
}

// phrase opens the demo's wallet, which goes with it.
const phrase = "the warden keeps the lamp lit"

// Part is a part of the scene; several are joined by |.
type Part int

// The parts.
const (
	Bookings  Part = 1 << iota // PostgreSQL's protocol, without encryption
	Ledger                     // MariaDB's protocol
	Spare                      // PostgreSQL's protocol, a replica of Bookings
	Secure                     // PostgreSQL's protocol, encrypted, with a certificate of an authority of its own
	Careless                   // PostgreSQL's protocol, asks to be shown the password
	Gate                       // an SSH server, behind which bookings.fellside.example is
	Container                  // a container engine, with a container and a stopped one
	Cloud                      // a cloud, with a server and a replica of it
	Census                     // Oracle Database's protocol, a listener with one service
	Snow                       // MongoDB's protocol, a set of one
)

// Everyday are the parts that stay up with demo --stay.
const Everyday = Bookings | Ledger | Spare | Gate | Container | Cloud | Census | Snow

// Scene is a set of practice servers, running. What it was started without is nil.
type Scene struct {
	Bookings, Ledger, Spare, Secure, Careless, Census, Snow *standin.Server

	Cloud  *standin.Cloud
	Engine *standin.Engine
	Gate   *standin.Jump
	// GateKey is the private key that the gate lets in, in OpenSSH's form.
	GateKey []byte
	// Authority has issued the certificate of Secure and of what is behind the gate, in PEM form.
	Authority []byte

	folder         string
	behind         *standin.Server // PostgreSQL's protocol, encrypted, behind the gate
	inside, anew   *standin.Server // PostgreSQL's protocol: in the container, and in the one that is made anew
	live, reports  *standin.Server // PostgreSQL's protocol, encrypted, in the cloud; and its replica
	servers        []*standin.Server
	ownCertificate *tls.Config
}

// Ports on which people expect the engines, with a digit before them or a little above: find
// looks there. The first that is free is taken.
var (
	postgresPorts = []int{15432, 25432, 35432, 45432, 55432, 5441, 5440, 5439, 5438, 5437, 5436, 5435, 5434}
	oraclePorts   = []int{11521, 21521, 31521, 41521, 51521, 1530, 1529, 1528, 1527, 1526, 1525, 1524, 1523}
	mongodbPorts  = []int{37017, 47017, 57017, 27026, 27025, 27024, 27023, 27022, 27021, 27020}
	mysqlPorts    = []int{13306, 23306, 33306, 43306, 53306, 3315, 3314, 3313, 3312, 3311, 3310, 3309, 3308}
)

// censusService is what the listener of Census has.
const censusService = "census.fellside.example"

// names is a file of names as clients of Census have one.
func (s *Scene) names() string {
	return fmt.Sprintf("# Names of the archive's servers.\nCENSUS =\n  (DESCRIPTION =\n    (ADDRESS = (PROTOCOL "+
		"= TCP)(HOST = 127.0.0.1)(PORT = %d))\n    (CONNECT_DATA = (SERVER = DEDICATED)(SERVICE_NAME = %s)))\n",
		s.Census.Port(), censusService)
}

// Start starts the parts of a scene, and writes their files into a folder. Close ends the servers.
func Start(folder string, parts Part) (*Scene, error) {
	s := &Scene{folder: folder}
	err := s.start(parts)
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Scene) start(parts Part) error {
	authority, err := standin.NewAuthority("Fellside Huts practice authority")
	if err != nil {
		return err
	}
	s.Authority = authority.PEM
	if s.ownCertificate, err = authority.Serve(time.Now().Add(-time.Hour), time.Now().AddDate(0, 6, 0),
		"localhost", "127.0.0.1", "db.fellside.example", "bookings.fellside.example"); err != nil {
		return err
	}
	for _, each := range []struct {
		part   Part
		into   **standin.Server
		config standin.Config
	}{
		{Bookings, &s.Bookings, standin.Config{Engine: "postgres", Ports: postgresPorts}},
		{Ledger, &s.Ledger, standin.Config{Engine: "mariadb", Login: "mysql_native_password", Ports: mysqlPorts}},
		{Spare, &s.Spare, standin.Config{Engine: "postgres", Replica: true, Ports: postgresPorts}},
		{Secure, &s.Secure, standin.Config{Engine: "postgres", TLS: s.ownCertificate, Ports: postgresPorts}},
		{Careless, &s.Careless, standin.Config{Engine: "postgres", Faults: standin.Faults{AskClear: true}}},
		{Gate, &s.behind, standin.Config{Engine: "postgres", TLS: s.ownCertificate, Unlisted: true}},
		{Container, &s.inside, standin.Config{Engine: "postgres"}},
		{Snow, &s.Snow, standin.Config{Engine: "mongodb", Ports: mongodbPorts}},
		{Census, &s.Census, standin.Config{Engine: "oracle", Ports: oraclePorts, Databases: []string{censusService}}},
	} {
		if parts&each.part == 0 {
			continue
		}
		if err := s.serve(each.into, each.config); err != nil {
			return err
		}
	}
	files := map[string][]byte{"phrase.txt": []byte(phrase + "\n"), "authority.pem": s.Authority}
	if parts&Census != 0 {
		files["names.ora"] = []byte(s.names())
	}
	if parts&Gate != 0 {
		if err := s.startGate(); err != nil {
			return err
		}
		files["id_gate"] = s.GateKey
	}
	if parts&Container != 0 {
		if err := s.startEngine(); err != nil {
			return err
		}
		files["compose.yaml"] = []byte(compose)
	}
	if parts&Cloud != 0 {
		if err := s.startCloud(); err != nil {
			return err
		}
	}
	for name, data := range files {
		if err := os.WriteFile(filepath.Join(s.folder, name), data, 0o600); err != nil {
			return err
		}
	}
	return nil
}

// serve starts a server with the accounts of Fellside Huts.
func (s *Scene) serve(into **standin.Server, config standin.Config) error {
	config.Accounts = map[string]string{"warden_app": passwords["HUT_WARDEN_PW"],
		"reader": passwords["HUT_READER_PW"], "steward": "keys-of-every-hut"}
	config.Superuser = "steward"
	server, err := standin.Start(config)
	if err != nil {
		return err
	}
	*into, s.servers = server, append(s.servers, server)
	return nil
}

// startGate starts the jump host, with a key that it lets in.
func (s *Scene) startGate() error {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	block, err := ssh.MarshalPrivateKey(private, "practice")
	if err != nil {
		return err
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return err
	}
	s.GateKey = pem.EncodeToMemory(block)
	s.Gate, err = standin.StartJump(standin.JumpConfig{
		Keys:   []ssh.PublicKey{signer.PublicKey()},
		Inside: map[string]func() (net.Conn, error){"bookings.fellside.example:5432": s.behind.Dial},
	})
	return err
}

// GateFingerprint gives the fingerprint of the jump host's key, SHA256:…
func (s *Scene) GateFingerprint() string { return ssh.FingerprintSHA256(s.Gate.HostKey()) }

// Close ends the servers.
func (s *Scene) Close() {
	if s.Gate != nil {
		s.Gate.Close()
	}
	if s.Cloud != nil {
		s.Cloud.Close()
	}
	if s.Engine != nil {
		s.Engine.Close()
	}
	for _, server := range s.servers {
		server.Close()
	}
}

// Environ gives NAME=VALUE pairs with the passwords that the demo's profiles look for.
func Environ() []string {
	var pairs []string
	for _, name := range []string{"HUT_WARDEN_PW", "HUT_READER_PW"} {
		pairs = append(pairs, name+"="+passwords[name])
	}
	return pairs
}

// EngineSocket gives the path of the container engine's socket in a scene's folder.
func EngineSocket(folder string) string { return filepath.Join(folder, "engine.sock") }

// compose is the Compose file of the scene's folder.
const compose = `name: huts
services:
  db:
    image: postgres:16
    environment:
      POSTGRES_USER: warden_app
      POSTGRES_PASSWORD: ${HUT_WARDEN_PW}
      POSTGRES_DB: bunkhouse
    ports: ["5432"]
    volumes: ["hutdata:/var/lib/postgresql/data"]
  snow:
    image: mariadb:11
    environment: {MARIADB_USER: reader, MARIADB_PASSWORD: "${HUT_READER_PW}", MARIADB_DATABASE: snow_depth}
volumes: {hutdata: {}}
`

// startEngine has the practice container engine listen on a socket, with the containers of the
// folder's Compose file.
func (s *Scene) startEngine() (err error) {
	if s.Engine, err = standin.StartEngine(EngineSocket(s.folder)); err != nil {
		return err
	}
	s.container(s.inside, "running")
	s.Engine.Put(standin.Contained{Name: "tally", Image: "mariadb:10.11", State: "exited", ExitCode: 0,
		Ended: time.Now().Add(-50 * time.Hour),
		Env:   []string{"MARIADB_ROOT_PASSWORD=" + passwords["HUT_READER_PW"]}, Volume: "tally",
		Folder: "/var/lib/mysql"})
	return nil
}

// container makes the container of the service db, with a server in it.
func (s *Scene) container(server *standin.Server, state string) {
	c := standin.Contained{
		Name: "huts-db-1", Image: "postgres:16", State: state,
		Published: map[int][]string{5432: {server.Address()}}, Volume: "huts_hutdata",
		Folder: "/var/lib/postgresql/data", Health: "healthy",
		Env: []string{"POSTGRES_USER=warden_app", "POSTGRES_PASSWORD=" + passwords["HUT_WARDEN_PW"],
			"POSTGRES_DB=bunkhouse"},
		Labels: map[string]string{"com.docker.compose.project": "huts", "com.docker.compose.service": "db",
			"com.docker.compose.container-number": "1", "com.docker.compose.project.working_dir": s.folder},
	}
	if state != "running" {
		c.Health, c.ExitCode, c.Ended = "", 137, time.Now().Add(-3*time.Minute)
		c.Log = []string{"the hut is closing for the night", "database system is shut down"}
	}
	s.Engine.Put(c)
}

// anewContainer makes the container anew, with another server on another port.
func (s *Scene) anewContainer() {
	if s.serve(&s.anew, standin.Config{Engine: "postgres"}) == nil {
		s.container(s.anew, "running")
	}
}
