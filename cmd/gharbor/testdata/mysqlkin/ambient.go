// Command mysqlkin is a server that only speaks the protocol of MySQL, for the tests: github.com/dolthub/go-mysql-server, which other people wrote. It has a
// database bunkhouse, and lets the user warden_app in with the password that is in its environment as PW. It listens on the address in its argument.
package main

import (
	"fmt"
	"os"

	sqle "github.com/dolthub/go-mysql-server"
	"github.com/dolthub/go-mysql-server/memory"
	"github.com/dolthub/go-mysql-server/server"
	"github.com/dolthub/go-mysql-server/sql"
)

func main() {
	if err := serve(os.Args[1], os.Getenv("PW")); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func serve(address, password string) error {
	provider := memory.NewDBProvider(memory.NewDatabase("bunkhouse"))
	engine := sqle.NewDefault(provider)
	accounts := engine.Analyzer.Catalog.MySQLDb
	editor := accounts.Editor()
	accounts.AddEphemeralSuperUser(editor, "warden_app", "%", password)
	editor.Close()
	s, err := server.NewServer(server.Config{Protocol: "tcp", Address: address}, engine, sql.NewContext, memory.NewSessionBuilder(provider), nil)
	if err != nil {
		return err
	}
	return s.Start()
}
