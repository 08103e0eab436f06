package alias_test

import (
	"fmt"

	"gentle-harbor/internal/alias"
)

// Aliases that others give out say for each name where the server is, with its spare addresses.
func ExampleRead() {
	list, err := alias.Read([]byte(`{"aliases_version": 1, "aliases": {
		"bookings": {"engine": "postgres", "addresses": ["db1.fellside.example", "db2.fellside.example:6432"]},
		"ledger": {"engine": "mariadb", "srv": "_mysql._tcp.fellside.example"}}}`))
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(list["bookings"]["addresses"].List, list["bookings"]["engine"].Text)
	fmt.Println(list["ledger"]["srv"].Text)
	_, err = alias.Read([]byte(`{"aliases_version": 1, "aliases": {"bookings": {"adresses": ["db1"]}}}`))
	fmt.Println(err)
	// Output:
	// [db1.fellside.example db2.fellside.example:6432] postgres
	// _mysql._tcp.fellside.example
	// alias bookings:1: there is no setting "adresses"; did you mean addresses?
}
