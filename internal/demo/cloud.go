package demo

import (
	"time"

	"gentle-harbor/internal/standin"
)

// liveName is the name in the certificates of the cloud's servers.
const liveName = "bunkhouse.cloud.fellside.example"

// startCloud starts the practice cloud, whose servers an authority verifies.
func (s *Scene) startCloud(authority string) (err error) {
	logins := s.Live.Logins()
	s.Cloud, err = standin.StartCloud(standin.CloudConfig{
		Who: "keeper@fellside.example", Service: "database rooms", Delay: 2 * time.Second, Page: 10,
		Servers: []standin.CloudServer{
			{ID: "srv-7f3a", Name: "bunkhouse", Engine: "postgres", Version: "16", Region: "north valley", ConnectionName: "fellside:north:bunkhouse", Behind: s.Live.Address(), Private: "10.20.0.5:5432",
				Authority: authority, CertificateName: liveName, Databases: []string{"bunkhouse"}, Copies: []standin.CloudCopy{{Name: "reports", Region: "south valley", Behind: s.Reports.Address()}},
				Login: func(user, database string) (string, string, error) {
					name, password, err := logins(user, database)
					if err == nil {
						s.Reports.Let(name, password)
					}
					return name, password, err
				}},
			{ID: "srv-20c4", Name: "snow", Engine: "mariadb", Version: "11.4", Region: "north valley", State: "stopped", Public: "none", Private: "10.20.0.6:3306"},
		},
	})
	return err
}

// keeper presses the page's button once a code waits there, as a person does who has compared it.
func (s *Scene) keeper() {
	go func() {
		for range 100 {
			time.Sleep(100 * time.Millisecond)
			if s.Cloud.Confirm(true) {
				return
			}
		}
	}()
}

// Account gives the steps that make the cloud's account and the profile of its server.
func (s *Scene) Account() []Step {
	return []Step{
		{Say: "A cloud runs servers too. It gets a name here, once it has shown that it is one.", Args: []string{"cloud", "add", "fellside", s.Cloud.URL()}},
		{Say: "A profile names one of its servers in the place of a host. The cloud says the address and the authority, and makes a login for each run.",
			Args: []string{"add", "huts/live", "--engine", "postgres", "--cloud", "fellside/bunkhouse", "--database", "bunkhouse", "--secret", "cloud", "--timeout", "1s"}},
	}
}

// Clouds gives the steps with the practice cloud.
func (s *Scene) Clouds() []Step {
	return append(s.Account(), []Step{
		{Say: "Nobody is signed in yet.", Args: []string{"test", "huts/live"}, Exit: 4},
		{Say: "To sign in, a person compares this code with the one on the page. The keeper of Fellside does it now; the key of the sign-in goes into the wallet.",
			Args: []string{"cloud", "sign-in", "fellside", "--passphrase-file", "phrase.txt"}, Before: s.keeper},
		{Say: "A service of a new project is off. The cloud says where it is switched on; gharbor await would wait for the click.", Args: []string{"cloud", "servers"}, Exit: 5},
		{Say: "The keeper has switched it on.", Args: []string{"cloud", "servers"}, Before: func() { s.Cloud.SwitchOn(true) }},
		{Say: "The server's network lets nobody in at first. The silence at its port is explained by the cloud.", Args: []string{"test", "huts/live"}, Exit: 5},
		{Say: "This machine's address is let in for two hours; done means that the server greets.", Args: []string{"cloud", "admit", "huts/live", "--for", "2h", "--yes"}},
		{Say: "And in.", Args: []string{"test", "huts/live"}},
		{Say: "What was let in is not forgotten.", Args: []string{"cloud", "admissions"}},
		{Say: "Signed out, here and at the cloud.", Args: []string{"cloud", "sign-out"}},
	}...)
}
