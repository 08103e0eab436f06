package mongodb

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentle-harbor/internal/engine"
)

// seesAll are the roles that see every database ("Built-In Roles", the server's manual).
var seesAll = []string{"root", "__system", "readAnyDatabase", "readWriteAnyDatabase", "dbAdminAnyDatabase",
	"userAdminAnyDatabase", "clusterAdmin", "clusterManager", "clusterMonitor", "backup", "restore"}

// sight says how much of the databases and collections this user sees.
func (s *session) sight(ctx context.Context, of string) (engine.Sight, error) {
	if s.method == engine.Unasked {
		return engine.SeesAll(), nil
	}
	status, err := s.status(ctx)
	if err != nil {
		return engine.Sight{}, err
	}
	for _, role := range status.Auth.Roles {
		if role.DB == "admin" && slices.Contains(seesAll, role.Role) {
			return engine.SeesAll(), nil
		}
	}
	return engine.SeesPart(of+" on which "+s.login.User+" has no right", "the role readAnyDatabase",
		`{"grantRolesToUser": `+text(s.login.User)+`, "roles": [{"role": "readAnyDatabase", "db": "admin"}]}`), nil
}

// Survey implements engine.Surveyor, for databases and for collections, which are its tables.
func (s *session) Survey(ctx context.Context, list engine.List, scope engine.Scope,
	out engine.Rows) (engine.Sight, error) {
	switch list {
	case engine.ListDatabases:
		return s.listDatabases(ctx, scope, out)
	case engine.ListTables:
		return s.listCollections(ctx, scope, out)
	case engine.ListSchemas:
		return engine.NotKnown("a database of this kind of server has no schemas"), nil
	}
	return engine.NotKnown("this list of a MongoDB server is not asked for yet"), nil
}

func (s *session) listDatabases(ctx context.Context, scope engine.Scope, out engine.Rows) (engine.Sight, error) {
	sight, err := s.sight(ctx, "databases")
	if err != nil {
		return sight, err
	}
	found, err := s.databases(ctx, "query", !scope.Names)
	if err != nil {
		return sight, err
	}
	columns := []engine.Column{{Name: "database", Kind: engine.Text}}
	if !scope.Names {
		columns = append(columns, engine.Column{Name: "size", Type: engine.TypeSize, Kind: engine.Integer})
	}
	if err := out.Columns(append(columns, engine.Column{Name: "open_now", Kind: engine.Boolean})); err != nil {
		return sight, err
	}
	for _, d := range found {
		if !scope.System && slices.Contains(ownDatabases, d.Name) {
			continue
		}
		row := []engine.Cell{{Text: d.Name}}
		if !scope.Names {
			row = append(row, engine.Cell{Text: strconv.FormatInt(int64(d.Size), 10)})
		}
		if err := out.Row(append(row, engine.Cell{Text: strconv.FormatBool(d.Name == s.login.Database)})); err != nil {
			return sight, err
		}
	}
	return sight, nil
}

// mostBatches bounds how often a list is gone on with.
const mostBatches = 100_000

// batch is a part of a list ("listCollections" and "getMore", the server's manual).
type batch struct {
	Cursor struct {
		ID    int64        `bson:"id"`
		First []collection `bson:"firstBatch"`
		Next  []collection `bson:"nextBatch"`
	} `bson:"cursor"`
}

type collection struct {
	Name string `bson:"name"`
	Type string `bson:"type"`
}

func (s *session) listCollections(ctx context.Context, scope engine.Scope, out engine.Rows) (engine.Sight, error) {
	sight, err := s.sight(ctx, "collections")
	if err != nil {
		return sight, err
	}
	found, err := s.databases(ctx, "query", false)
	if err != nil {
		return sight, err
	}
	if err := out.Columns([]engine.Column{{Name: "database", Kind: engine.Text},
		{Name: "table", Kind: engine.Text}, {Name: "kind", Kind: engine.Text}}); err != nil {
		return sight, err
	}
	for _, d := range found {
		if !scope.System && slices.Contains(ownDatabases, d.Name) {
			continue
		}
		if err := s.collections(ctx, d.Name, bson.D{}, func(c collection) error {
			if !scope.System && strings.HasPrefix(c.Name, "system.") {
				return nil
			}
			return out.Row([]engine.Cell{{Text: d.Name}, {Text: c.Name}, {Text: c.Type, Null: c.Type == ""}})
		}); err != nil {
			return sight, err
		}
	}
	return sight, nil
}

// collections gives each collection of a database that a filter lets through.
func (s *session) collections(ctx context.Context, of string, filter bson.D, each func(collection) error) error {
	var part batch
	err := s.call(ctx, "query", s.reading(bson.D{{Key: "listCollections", Value: 1},
		{Key: "nameOnly", Value: true}, {Key: "authorizedCollections", Value: true},
		{Key: "filter", Value: filter}, {Key: "$db", Value: of}}), &part)
	for range mostBatches {
		if err != nil {
			return err
		}
		for _, c := range append(part.Cursor.First, part.Cursor.Next...) {
			if err := each(c); err != nil {
				return err
			}
		}
		id := part.Cursor.ID
		if id == 0 {
			return nil
		}
		part = batch{}
		err = s.call(ctx, "query", s.reading(bson.D{{Key: "getMore", Value: id},
			{Key: "collection", Value: "$cmd.listCollections"}, {Key: "$db", Value: of}}), &part)
	}
	return engine.TooMuch("query")
}

// Table implements engine.Surveyor: it finds a collection of the open database, or
// DATABASE.COLLECTION. A collection's name can have dots.
func (s *session) Table(ctx context.Context, name string) (engine.Relation, error) {
	type place struct{ database, name string }
	places := []place{{s.login.Database, name}}
	if before, rest, dotted := strings.Cut(name, "."); dotted && rest != "" {
		places = append(places, place{before, rest})
	}
	for _, p := range places {
		there := false
		if p.database == "" {
			continue
		}
		if err := s.collections(ctx, p.database, bson.D{{Key: "name", Value: p.name}},
			func(c collection) error { there = there || c.Name == p.name; return nil }); err != nil {
			return engine.Relation{}, err
		}
		if there {
			return engine.Relation{Schema: p.database, Name: p.name, Shown: p.database + "." + p.name}, nil
		}
	}
	return engine.Relation{}, &engine.NotThere{What: "collection", Name: name}
}
