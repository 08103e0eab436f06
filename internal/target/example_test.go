package target_test

import (
	"fmt"

	"gentle-harbor/internal/target"
)

// What is stored for one server is not for another.
func ExampleTarget_Differs() {
	at, _ := target.ParseEndpoint("db.fellside.example:5432/bunkhouse")
	kept := target.Target{User: "reader", Endpoint: at, TLS: "verify"}
	wanted := kept
	fmt.Println(kept.Differs(wanted))
	wanted.Host = "db.fellside.test"
	fmt.Println(kept.Differs(wanted))
	// Output:
	// []
	// [it is stored for db.fellside.example:5432, and this connection goes to db.fellside.test:5432]
}

// An endpoint is written as HOST[:PORT][/DATABASE], or as the path of a socket.
func ExampleParseEndpoint() {
	for _, text := range []string{"db.fellside.example/bunkhouse", "[2001:db8::7]:6432", "/run/postgresql", "db:70000"} {
		e, err := target.ParseEndpoint(text)
		fmt.Println(e, err)
	}
	// Output:
	// db.fellside.example/bunkhouse <nil>
	// [2001:db8::7]:6432 <nil>
	// /run/postgresql <nil>
	//  a port is a whole number from 1 to 65535
}
