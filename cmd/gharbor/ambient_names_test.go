//go:build unix

package main

// The name of a program of other people's that the tests meet on the machine, which stands in front
// of a server. What only speaks a protocol is in testdata. The names stand here, in
// scripts/ambient and in testdata/mysqlkin/ambient.go, and nowhere else.
const poolerProgram = "pgbouncer"
