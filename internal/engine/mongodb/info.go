package mongodb

import (
	"encoding/binary"
	"encoding/json"

	"gentle-harbor/internal/engine"
)

// Info implements engine.Engine.
func (Engine) Info() engine.Info {
	return engine.Info{
		Name: "mongodb", Family: "mongodb", Title: product, Port: 27017, EncryptsFirst: true, Nobody: true,
		AccountsIn: optionAccounts,
		Records:    "_mongodb._tcp.", TXT: []string{optionAccounts, optionSet},
		Switches: []string{optionDirect},
		Language: language, Can: []engine.Ability{engine.Leads, engine.Runs, engine.Lists, engine.Surveys},
		Options:  []string{optionAccounts, optionSet, optionDirect},
		Methods:  methods,
		Accounts: []string{"mongodb", "mongod"},
		Schemes:  []string{"mongodb"}, Words: []string{"mongodb", "mongo"}, Prefixes: []string{"MONGODB", "MONGO"},
		Parameters: map[string]string{"mode": "tls", "ca": "tlsCAFile", "cert": "tlsCertificateKeyFile",
			"off": "false", "encrypt": "true", "verify": "true", "unchecked": "tlsAllowInvalidCertificates=true",
			"option " + optionAccounts: "authSource", "option " + optionSet: "replicaSet",
			"option " + optionDirect: "directConnection", "alone": "directConnection",
			"timeout": "connectTimeoutMS"},
		Milliseconds: true,
		Binding:      "mongodb", Processes: []string{"mongod", "mongos"},
		Opening: message(1, 0, []byte(greets)),
		Listens: "net.bindIp",
		Image: engine.Image{
			Repositories: []string{"mongo"},
			Accounts: []engine.ImageAccount{
				{Users: []string{"MONGO_INITDB_ROOT_USERNAME"},
					Passwords: []string{"MONGO_INITDB_ROOT_PASSWORD"}, Password: `{"updateUser": {user}, "pwd": "…"}`},
			},
			Databases: []string{"MONGO_INITDB_DATABASE"},
			Folders:   []string{"/data/db"},
		},
		Started: []engine.Started{
			{Needs: "/run/systemd/system", Found: "/lib/systemd/system/mongod.service",
				Proof: "a system service {name} is installed ({path})", Start: "sudo systemctl start {name}"},
			{Needs: "/run/systemd/system", Found: "/usr/lib/systemd/system/mongod.service",
				Proof: "a system service {name} is installed ({path})", Start: "sudo systemctl start {name}"},
		},
	}
}

// greets is a greeting without a login, {"hello": 1, "$db": "admin"}. It is written out, since it
// is needed at each start of the program.
const greets = "\x1f\x00\x00\x00\x10hello\x00\x01\x00\x00\x00\x02$db\x00\x06\x00\x00\x00admin\x00\x00"

// Identify implements engine.Engine, by an answer to a greeting.
func (Engine) Identify(first []byte) (engine.Answer, bool) {
	if len(first) < headerSize+5 {
		return engine.Answer{}, false
	}
	size := binary.LittleEndian.Uint32(first)
	if size < shortest || size > mostMessage || binary.LittleEndian.Uint32(first[12:]) != opMsg ||
		first[headerSize+4] != kindBody {
		return engine.Answer{}, false
	}
	return engine.Answer{Kind: "mongodb", Title: "a MongoDB server"}, true
}

// Advice implements engine.Engine: commands are objects here.
func (Engine) Advice(about engine.Subject) engine.Advice {
	user, in := text(about.User), text(about.Database)
	return engine.Advice{
		Quote: `"`, FirstDatabase: "admin",
		Account:     `{"usersInfo": {"forAllDBs": true}, "filter": {"user": ` + user + `}}`,
		Connections: `{"currentOp": 1, "$all": true}`, Holders: `{"currentOp": 1, "active": true}`,
		Grant:    `{"grantRolesToUser": ` + user + `, "roles": [{"role": "read", "db": ` + in + `}]}`,
		Password: `{"updateUser": ` + user + `, "pwd": "…"}`,
	}
}

// text writes a text as JSON has it (RFC 8259).
func text(s string) string {
	written, _ := json.Marshal(s)
	return string(written)
}
