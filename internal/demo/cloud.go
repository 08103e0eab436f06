package demo

import (
	"time"

	"gentle-harbor/internal/standin"
)

// liveName is the name in the certificates of the cloud's servers.
const liveName = "bunkhouse.cloud.fellside.example"

// startCloud starts the practice cloud, whose servers an authority of its own verifies.
func (s *Scene) startCloud() error {
	authority, err := standin.NewAuthority("Fellside practice cloud authority")
	if err != nil {
		return err
	}
	certificate, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().AddDate(0, 6, 0), liveName)
	if err != nil {
		return err
	}
	if err := s.serve(&s.live, standin.Config{Engine: "postgres", TLS: certificate}); err != nil {
		return err
	}
	if err := s.serve(&s.reports, standin.Config{Engine: "postgres", TLS: certificate, Replica: true}); err != nil {
		return err
	}
	logins := s.live.Logins()
	s.Cloud, err = standin.StartCloud(standin.CloudConfig{
		Who: "keeper@fellside.example", Service: "database rooms", Delay: 2 * time.Second, Page: 10,
		Servers: []standin.CloudServer{
			{ID: "srv-7f3a", Name: "bunkhouse", Engine: "postgres", Version: "16", Region: "north valley",
				ProviderName: "fellside:north:bunkhouse", Behind: s.live.Address(), Private: "10.20.0.5:5432",
				Authority: string(authority.PEM), CertificateName: liveName, Databases: []string{"bunkhouse"},
				Replicas: []standin.CloudReplica{{Name: "reports", Region: "south valley",
					Behind: s.reports.Address()}},
				Login: func(user, database string) (string, string, error) {
					name, password, err := logins(user, database)
					if err == nil {
						s.reports.Let(name, password)
					}
					return name, password, err
				}},
			{ID: "srv-20c4", Name: "snow", Engine: "mariadb", Version: "11.4", Region: "north valley",
				State: "stopped", Public: "none", Private: "10.20.0.6:3306"},
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
