package finding_test

import (
	"fmt"

	"gentle-harbor/internal/finding"
)

// A finding says what failed, and what to try: a command where the facts for one are known.
func ExampleMake() {
	f := finding.Make(finding.PortRefused, finding.About{
		Facts: finding.Facts{finding.FactAddress: "127.0.0.1:3306", finding.FactTitle: "MariaDB",
			finding.FactFoundPort: "13306", finding.FactFoundTitle: "a MariaDB server", finding.FactProfile: "archive/ledger",
			finding.FactSubject: "archive/ledger"},
		Again: finding.Again{Name: "archive/ledger"},
	}, "nothing listens on this port")
	fmt.Println(f.Code, f.Leg, f.Exit())
	fmt.Println(f.Cause)
	fmt.Println(f.Try[0])
	// Output:
	// port.refused port 5
	// Nothing listens on 127.0.0.1:3306: the machine answered that no program has this port open.
	// a MariaDB server answers on another port: gharbor test archive/ledger --port 13306
}

// The catalogue knows each code, in words that need no connection.
func ExampleLookup() {
	e, known := finding.Lookup("tls.not-offered")
	fmt.Println(known, e.General())
	// Output:
	// true The profile asks for encryption, and the server does not offer any.
}
