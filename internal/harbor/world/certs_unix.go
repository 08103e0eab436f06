//go:build unix && !darwin

package world

// CertVariables are the variables that crypto/x509 reads on this system.
var CertVariables = []string{"SSL_CERT_FILE", "SSL_CERT_DIR"}
