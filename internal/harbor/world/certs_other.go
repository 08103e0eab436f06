//go:build !unix || darwin

package world

// CertVariables are the variables that crypto/x509 reads: none, where the system itself checks
// certificates.
var CertVariables []string
