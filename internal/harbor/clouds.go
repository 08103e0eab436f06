package harbor

import (
	"sync"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/target"
)

// clouds is what a run knows of the user's clouds.
type clouds struct {
	mu       sync.Mutex
	sessions map[string]*cloud.Session
	memories map[target.Clouded]*cloud.Memory
	logins   cloud.Logins
	servers  sync.Map // the id of a server that was found, by its account and name
}
