//go:build unix && !darwin

package harbor

// certVariables are the variables that crypto/x509 reads on this system.
var certVariables = []string{"SSL_CERT_FILE", "SSL_CERT_DIR"}
