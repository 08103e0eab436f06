//go:build unix

package main

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"gentle-harbor/internal/standin"
)

// withTheirs asks over the official driver, which opens connections of its own beside the one
// that asks.
func withTheirs(to string) (string, error) { return withTheirsWithin(to, 10*time.Second) }

// withTheirsWithin is withTheirs with the time in which the driver, which tries again and again, is
// to reach the server.
func withTheirsWithin(to string, limit time.Duration) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*limit)
	defer cancel()
	client, err := mongo.Connect(options.Client().ApplyURI(to).SetServerSelectionTimeout(limit))
	if err != nil {
		return "", err
	}
	defer func() { _ = client.Disconnect(ctx) }()
	huts := client.Database("bunkhouse").Collection("hut")
	var hut struct {
		Name   string
		Height int
	}
	if err := huts.FindOne(ctx, bson.D{{Key: "_id", Value: 1}}).Decode(&hut); err != nil {
		return "", err
	}
	cursor, err := huts.Find(ctx, bson.D{}, options.Find().SetBatchSize(1))
	if err != nil {
		return "", err
	}
	var all []bson.D
	if err := cursor.All(ctx, &all); err != nil {
		return "", err
	}
	return fmt.Sprintf("%s %d of %d", hut.Name, hut.Height, len(all)), nil
}

// TestDriverOfOthersWithDocuments has the driver that the engine's own people made log in to the
// practice server, unmodified, straight and through a door that encrypts for it: what the
// practice server says of the protocol is not only what our own client believes.
func TestDriverOfOthersWithDocuments(t *testing.T) {
	t.Parallel()
	const want = "Greystone 812 of 4"
	for _, method := range []string{"SCRAM-SHA-256", "SCRAM-SHA-1"} {
		s := documents(t, standin.Config{Login: method})
		to := fmt.Sprintf("mongodb://warden_app:%s@%s/bunkhouse?authSource=admin&directConnection=true",
			url.PathEscape(canary), s.Address())
		if got, err := withTheirs(to); got != want {
			t.Errorf("%s: %q, %v", method, got, err)
		}
		if _, err := withTheirs(strings.Replace(to, url.PathEscape(canary), "other", 1)); err == nil ||
			!strings.Contains(err.Error(), "AuthenticationFailed") {
			t.Errorf("%s: a wrong password: %v", method, err)
		}
	}
	authority, config := encrypting(t, "127.0.0.1")
	w := newWorld(t, "PW="+canary)
	s := documents(t, standin.Config{TLS: config})
	p := w.save("p", "mongodb", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()),
		"--database", "bunkhouse", "--user", "warden_app", "--secret", "env:PW", "--tls", "verify",
		"--tls-ca", w.write("ca.pem", string(authority.PEM)))
	d, _, _ := w.open(p, "--expect", "encrypted=true", "--option", "direct=false", "--option", "set=fellside")
	if has(t, d.URI, "directConnection=true&replicaSet=fellside"); strings.Contains(d.URI, "tls=true") {
		t.Error(d.URI)
	}
	if got, err := withTheirs(withPassword(t, d.URI, canary)); got != want {
		t.Errorf("through a door: %q, %v", got, err)
	}
	// One that would show its password, at the door of a profile that does not accept that.
	clear := documents(t, standin.Config{})
	q := w.save("q", "mongodb", "--host", "127.0.0.1", "--port", fmt.Sprint(clear.Port()),
		"--database", "bunkhouse", "--user", "warden_app", "--secret", "env:PW", "--login-methods", "SCRAM-SHA-256")
	d, _, _ = w.open(q)
	to := strings.Replace(withPassword(t, d.URI, canary), "?", "?authMechanism=PLAIN&authSource=$external&", 1)
	if _, err := withTheirs(to); err == nil || !strings.Contains(err.Error(), "login.method-not-supported") ||
		len(clear.Shown()) > 0 {
		t.Errorf("shown %d times: %v", len(clear.Shown()), err)
	}
}
