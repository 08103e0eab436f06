package standin

import "fmt"

// Logins gives what makes temporary accounts on a practice server: each with a user of its own,
// or with the one that is asked for.
func (s *Server) Logins() func(user, database string) (string, string, error) {
	return func(user, _ string) (string, string, error) {
		if user == "" {
			s.mu.Lock()
			user = fmt.Sprintf("guest_%d", len(s.more)+1)
			s.mu.Unlock()
		}
		if _, known := s.config.Accounts[user]; known {
			return "", "", fmt.Errorf("the user %s has a permanent password", user)
		}
		password := "Aa1-" + newCode() + newCode()
		s.Let(user, password)
		return user, password, nil
	}
}
