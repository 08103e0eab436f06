// Command documentserver runs a document server of other people's making, FerretDB, on a port of this machine that is free, with its files in the folder that is its
// argument. It prints where it listens. It is a module of its own, so that nothing of it is a part of the program.
package main

import (
	"context"
	"fmt"
	"os"

	"github.com/FerretDB/FerretDB/ferretdb"
)

func main() {
	f, err := ferretdb.New(&ferretdb.Config{Listener: ferretdb.ListenerConfig{TCP: "127.0.0.1:0"}, Handler: "sqlite", SQLiteURL: "file:" + os.Args[1] + "/"})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	go func() { fmt.Println(f.MongoDBURI()) }() // which waits until it listens
	fmt.Fprintln(os.Stderr, f.Run(context.Background()))
}
