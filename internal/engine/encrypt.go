package engine

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"gentle-harbor/internal/errno"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// Encrypt makes the client's TLS handshake over conn and gives the encrypted connection with a
// line on what was agreed. Its error is a *finding.Problem of the leg "tls".
func Encrypt(ctx context.Context, conn net.Conn, config *tls.Config) (*tls.Conn, string, error) {
	encrypted := tls.Client(conn, config)
	if err := encrypted.HandshakeContext(ctx); err != nil {
		return nil, "", encryptFailure(ctx, err, config)
	}
	state := encrypted.ConnectionState()
	saw := tls.VersionName(state.Version) + ", " + tls.CipherSuiteName(state.CipherSuite)
	if config.InsecureSkipVerify {
		return encrypted, saw + ", identity not checked", nil
	}
	return encrypted, saw + ", certificate is valid for " + config.ServerName, nil
}

// Describe says in a line which name a connection's certificate is for and until when it holds.
func Describe(state tls.ConnectionState) string {
	if len(state.PeerCertificates) == 0 {
		return ""
	}
	leaf := state.PeerCertificates[0]
	return fmt.Sprintf("%s, until %s", strings.Join(namesOf(leaf), ", "), leaf.NotAfter.UTC().Format("2006-01-02"))
}

func namesOf(cert *x509.Certificate) []string {
	names := append([]string(nil), cert.DNSNames...)
	for _, ip := range cert.IPAddresses {
		names = append(names, ip.String())
	}
	if len(names) == 0 {
		names = []string{cert.Subject.CommonName}
	}
	return names
}

// certified gives one name that a certificate is for, "" for none that a server can have.
func certified(cert *x509.Certificate) string {
	for _, name := range namesOf(cert) {
		if name != "" && !strings.Contains(name, "*") && outside.Clean(name) && !strings.ContainsAny(name, " /") {
			return name
		}
	}
	return ""
}

func encryptFailure(ctx context.Context, err error, config *tls.Config) *finding.Problem {
	about := finding.Facts{finding.FactName: config.ServerName}
	alert := alertOf(err)
	f := &finding.Problem{Code: finding.TLSUnknown, Err: err, Facts: about,
		Words: outside.Said(strings.TrimPrefix(err.Error(), "tls: "))}
	if alert != "" {
		f.Words = outside.Said(alert)
	}
	var (
		authority x509.UnknownAuthorityError
		invalid   x509.CertificateInvalidError
		name      x509.HostnameError
		verify    *tls.CertificateVerificationError
		plain     tls.RecordHeaderError
	)
	if errors.As(err, &verify) && len(verify.UnverifiedCertificates) > 0 {
		leaf := verify.UnverifiedCertificates[0]
		about[finding.FactCertificate], about[finding.FactIssuer] = leaf.Subject.String(), leaf.Issuer.String()
		about[finding.FactNames] = strings.Join(namesOf(leaf), ", ")
		about[finding.FactFrom], about[finding.FactUntil] = leaf.NotBefore.UTC().Format(time.RFC3339),
			leaf.NotAfter.UTC().Format(time.RFC3339)
	}
	switch {
	case errors.As(err, &authority):
		f.Code = finding.TLSNotTrusted
	case errors.As(err, &name):
		f.Code = finding.TLSOtherName
		if verify != nil && len(verify.UnverifiedCertificates) > 0 {
			about[finding.FactCertified] = certified(verify.UnverifiedCertificates[0])
		}
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		f.Code = finding.TLSExpired
		if invalid.Cert != nil && time.Now().Before(invalid.Cert.NotBefore) {
			f.Code = finding.TLSNotYetValid
		}
	case refusesCertificate(alert):
		f.Code = finding.TLSClientCertificate
	case alert == "protocol version not supported" ||
		strings.Contains(err.Error(), "server selected unsupported protocol version"):
		f.Code = finding.TLSOldProtocol
	case errors.As(err, &plain):
		f.Code = finding.TLSNotOffered
	case finding.Silent(ctx, err):
		f.Code = finding.TLSSilent
	case errors.Is(err, io.EOF), errno.Is(err, errno.Reset):
		f.Code = finding.TLSClosed
	}
	if f.Code != finding.TLSUnknown {
		f.Words = outside.Raw{} // the finding says it in plain words
	}
	return f
}

// alertOf gives the words of the TLS alert (RFC 8446, section 6) with which the other side ended
// a connection, "" when it did not. The standard library keeps its type to itself.
func alertOf(err error) string {
	var op *net.OpError
	if !errors.As(err, &op) || op.Op != "remote error" {
		return ""
	}
	return strings.TrimPrefix(op.Err.Error(), "tls: ")
}

// refusesCertificate reports whether an alert is about the client's certificate.
func refusesCertificate(alert string) bool {
	return strings.Contains(alert, "certificate")
}

// Broken gives the failure of a leg that ended without the server's own error: silence, an end of
// the connection, or what none of these is.
func Broken(ctx context.Context, leg string, err error) *finding.Problem {
	switch alert := alertOf(err); {
	case refusesCertificate(alert):
		return &finding.Problem{Code: finding.TLSClientCertificate, Err: err, Words: outside.Said(alert)}
	case alert != "":
		return &finding.Problem{Code: finding.TLSUnknown, Err: err, Words: outside.Said(alert)}
	case finding.Silent(ctx, err):
		return &finding.Problem{Code: finding.Of(leg, "silent"), Err: err}
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errno.Is(err, errno.Reset),
		errno.Is(err, errno.ClosedPipe), errors.Is(err, net.ErrClosed):
		return &finding.Problem{Code: finding.Of(leg, "closed"), Err: err}
	}
	return &finding.Problem{Code: finding.Of(leg, "unknown"), Err: err, Words: outside.Said(err.Error())}
}

// Malformed gives the failure for a panic of a driver or for bytes that are not of its protocol.
func Malformed(cause any) *finding.Problem {
	return &finding.Problem{Code: finding.GreetingMalformed, Err: fmt.Errorf("%v", cause),
		Facts: finding.Facts{finding.FactFirst: "bytes that the protocol does not allow"}}
}
