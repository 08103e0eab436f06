// Package realtest starts, for tests, what is real: servers of PostgreSQL and MariaDB, a browser, and
// terminals with a program in them. What it cannot find skips the test, or fails it where CI runs.
package realtest
