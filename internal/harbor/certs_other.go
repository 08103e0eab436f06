//go:build !unix || darwin

package harbor

// certVariables are the variables that crypto/x509 reads: none, where the system itself checks certificates.
var certVariables []string
