//go:build unix

package main

// Names of programs of other people's that the tests meet on the machine: what stands in front of
// a server, or only speaks its protocol. They stand here, in scripts/ambient and in
// testdata/mysqlkin/ambient.go, and nowhere else.
const (
	poolerProgram = "pgbouncer"
	kinModule     = "github.com/dolthub/go-mysql-server"
)
