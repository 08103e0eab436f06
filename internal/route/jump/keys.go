package jump

import (
	"bytes"
	"context"
	"io/fs"

	"errors"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
)

// maxKey bounds a file with a key or a certificate.
const maxKey = 256 << 10

// maxAgentKeys is how many keys of an agent are looked at.
const maxAgentKeys = 256

// credential is one thing to log in with: a key, or a key with a certificate.
type credential struct {
	signer ssh.Signer
	from   string // where it is: "the key /home/w/.ssh/id_ed25519", "the agent's key w@gate"
	// open opens a key of an older form, whose public part nobody knows before; nil for others.
	// It is asked for when its turn comes.
	open func() (ssh.Signer, error)
}

// purse collects what there is to log in with, and what was wrong with the rest.
type purse struct {
	hop         *attempt
	settings    Settings
	user        string // on the hop
	tokens      map[byte]string
	list        []credential
	troubles    []*finding.Problem
	agent       agent.ExtendedAgent
	agentKeys   []*agent.Key
	agentClosed io.Closer
	agentAt     string
	agentRefuse string          // the agent's words when it did not sign
	agentTime   context.Context // ends when the agent has had its time
}

func (p *purse) trouble(code finding.Code, facts finding.Facts) {
	p.troubles = append(p.troubles, &finding.Problem{Code: code, Facts: facts})
}

// close ends the connection to the agent.
func (p *purse) close() {
	if p.agentClosed != nil {
		_ = p.agentClosed.Close()
	}
}

// fill looks for keys: the hop's own first, then those of the configuration, then the agent's.
// The error is a *finding.Problem about a key that the profile itself names.
func (p *purse) fill(ctx context.Context) error {
	p.openAgent(ctx)
	var certificates []*ssh.Certificate
	var names []string
	certificate := func(path string, named bool) error {
		data, err := files.Read(path, maxKey)
		if err != nil {
			if named && errors.Is(err, fs.ErrPermission) {
				closed := secret.NotReadable(path)
				closed.Code, closed.Facts[finding.FactFile] = finding.TunnelKeyUnsafe, path
				return closed
			}
			if named {
				return &finding.Problem{Code: finding.TunnelKeyMissing,
					Facts: finding.Facts{finding.FactFile: path, finding.FactDetail: err.Error()}}
			}
			return nil
		}
		key, _, _, _, err := ssh.ParseAuthorizedKey(data)
		cert, ok := key.(*ssh.Certificate)
		if err != nil || !ok {
			p.trouble(finding.TunnelKeyInvalid,
				finding.Facts{finding.FactFile: path, finding.FactDetail: "It is no OpenSSH certificate."})
			return nil
		}
		certificates, names = append(certificates, cert), append(names, path)
		return nil
	}
	if p.hop.Certificate != "" {
		if err := certificate(p.hop.Certificate, true); err != nil {
			return err
		}
	}
	for _, word := range p.settings.Many["certificatefile"] {
		path, err := p.path(word)
		if err != nil {
			return err
		}
		if path != "" {
			_ = certificate(path, false)
		}
	}
	paths, usual, err := p.paths()
	if err != nil {
		return err
	}
	for i, path := range paths {
		_ = certificate(path+"-cert.pub", false)
		if err := p.file(path, i == 0 && p.hop.Key != "", usual && !(i == 0 && p.hop.Key != "")); err != nil {
			return err
		}
	}
	if !strings.EqualFold(p.settings.text("identitiesonly"), "yes") {
		for _, key := range p.agentKeys {
			p.fromAgent(key)
		}
	}
	p.certify(certificates, names)
	return nil
}

// paths gives the key files that are looked at: the hop's own, then the configuration's, else the
// usual ones.
func (p *purse) paths() (paths []string, usual bool, err error) {
	if p.hop.Key != "" {
		paths = append(paths, p.hop.Key)
	}
	identities := p.settings.Many["identityfile"]
	for _, word := range identities {
		path, err := p.path(word)
		if err != nil {
			return nil, false, err
		}
		if path != "" {
			paths = append(paths, path)
		}
	}
	if len(identities) > 0 {
		return paths, false, nil
	}
	for _, name := range []string{"id_rsa", "id_ecdsa", "id_ecdsa_sk", "id_ed25519", "id_ed25519_sk"} {
		paths = append(paths, filepath.Join(p.hop.Config.World.Home, ".ssh", name))
	}
	return paths, true, nil
}

// path gives the path that a directive means, "" for none.
func (p *purse) path(word Word) (string, error) {
	if strings.EqualFold(word.Text, "none") {
		return "", nil
	}
	path, err := p.hop.Config.World.expand(word.Text, p.tokens)
	if err != nil {
		return "", broken(word, "%v", err)
	}
	if !filepath.IsAbs(path) {
		return "", broken(word, "%q is no absolute path", path)
	}
	return path, nil
}

func (p *purse) has(key ssh.PublicKey) bool {
	return slices.ContainsFunc(p.list, func(c credential) bool { return c.is(key) })
}

// is reports whether a credential is known to be for a key.
func (c credential) is(key ssh.PublicKey) bool {
	return c.signer != nil && bytes.Equal(c.signer.PublicKey().Marshal(), key.Marshal())
}

// fromAgent adds a key of the agent's.
func (p *purse) fromAgent(key *agent.Key) {
	public, err := ssh.ParsePublicKey(key.Blob)
	if err != nil || p.has(public) {
		return
	}
	if cert, ok := public.(*ssh.Certificate); ok && !p.good(cert, "the agent's certificate "+key.Comment) {
		return
	}
	p.list = append(p.list, credential{signer: &agentSigner{purse: p, key: public},
		from: "the agent's key " + key.Comment})
}

// agentSigner signs with a key that only an agent has.
type agentSigner struct {
	purse *purse
	key   ssh.PublicKey
}

// PublicKey gives the key's public part.
func (s *agentSigner) PublicKey() ssh.PublicKey { return s.key }

// Sign asks the agent for a signature.
func (s *agentSigner) Sign(rand io.Reader, data []byte) (*ssh.Signature, error) {
	return s.SignWithAlgorithm(rand, data, "")
}

// SignWithAlgorithm asks the agent for a signature, which may ask a person: the leg's time does
// not count meanwhile.
func (s *agentSigner) SignWithAlgorithm(_ io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	var flags agent.SignatureFlags
	switch algorithm {
	case ssh.KeyAlgoRSASHA256, ssh.CertAlgoRSASHA256v01:
		flags = agent.SignatureFlagRsaSha256
	case ssh.KeyAlgoRSASHA512, ssh.CertAlgoRSASHA512v01:
		flags = agent.SignatureFlagRsaSha512
	}
	defer s.purse.hop.pause()()
	signature, err := s.purse.agent.SignWithFlags(s.key, data, flags)
	if err != nil {
		if s.purse.agentRefuse = err.Error(); s.purse.agentTime.Err() != nil {
			s.purse.agentRefuse = "the agent did not answer within " + s.purse.hop.askLimit().String()
		}
	}
	return signature, err
}

// file adds the key in a file. An agent that has it too signs with it. A named file must be good;
// a usual one may be missing.
func (p *purse) file(path string, named, usual bool) error {
	wrong := func(code finding.Code, facts finding.Facts) error {
		facts[finding.FactFile] = path
		p.trouble(code, facts)
		if named {
			return p.troubles[len(p.troubles)-1]
		}
		return nil
	}
	if public := publicKey(path); public != nil {
		if i := slices.IndexFunc(p.agentKeys, func(k *agent.Key) bool {
			return bytes.Equal(k.Blob, public.Marshal())
		}); i >= 0 {
			p.fromAgent(p.agentKeys[i])
			return nil
		}
		if strings.HasSuffix(path, ".pub") {
			return wrong(finding.TunnelKeyMissing,
				finding.Facts{finding.FactDetail: "Only its public part is there, and no agent that was asked " +
					"has the private one."})
		}
	}
	data, err := secret.ReadGuarded(path, maxKey)
	var problem *finding.Problem
	if errors.As(err, &problem) {
		switch problem.Code {
		case finding.SecretFileMissing:
			if usual {
				return nil
			}
			return wrong(finding.TunnelKeyMissing, finding.Facts{finding.FactDetail: problem.Facts[finding.FactDetail]})
		case finding.SecretNotReadable:
			if usual {
				return nil
			}
			return wrong(finding.TunnelKeyUnsafe,
				finding.Facts{finding.FactDetail: problem.Facts[finding.FactDetail],
					finding.FactFix: problem.Facts[finding.FactFix]})
		case finding.SecretFileUnsafe, finding.SecretFileForeign, finding.SecretFolderUnsafe:
			return wrong(finding.TunnelKeyUnsafe,
				finding.Facts{finding.FactDetail: problem.Facts[finding.FactDetail],
					finding.FactFix: problem.Facts[finding.FactFix]})
		}
		return wrong(finding.TunnelKeyInvalid, finding.Facts{finding.FactDetail: problem.Facts[finding.FactDetail]})
	}
	if err != nil {
		return err
	}
	if raw, err := ssh.ParseRawPrivateKey(data); err == nil {
		signer, err := ssh.NewSignerFromKey(raw)
		if err != nil {
			return wrong(finding.TunnelKeyInvalid, finding.Facts{finding.FactDetail: "Its kind of key is not known here."})
		}
		if !p.has(signer.PublicKey()) {
			p.list = append(p.list, credential{signer: signer, from: "the key " + path})
		}
		return nil
	} else if locked := (*ssh.PassphraseMissingError)(nil); errors.As(err, &locked) {
		public := locked.PublicKey
		if public == nil {
			public = publicKey(path)
		}
		if public == nil {
			// An older form of key, whose public part nobody can know without the passphrase.
			p.list = append(p.list, credential{from: "the key " + path, open: func() (ssh.Signer, error) {
				ctx, cancel := p.hop.asking()
				defer cancel()
				signer, err := p.unlock(ctx, path, data)
				var problem *finding.Problem
				if errors.As(err, &problem) && !named {
					p.trouble(problem.Code, problem.Facts)
					return nil, nil // the next one is tried
				}
				return signer, err
			}})
			return nil
		}
		if i := slices.IndexFunc(p.agentKeys, func(k *agent.Key) bool {
			return bytes.Equal(k.Blob, public.Marshal())
		}); i >= 0 {
			p.fromAgent(p.agentKeys[i])
		} else if !p.has(public) {
			p.list = append(p.list, credential{signer: &lockedSigner{purse: p, key: public, path: path,
				data: data}, from: "the key " + path})
		}
		return nil
	}
	if bytes.Contains(data, []byte("OPENSSH PRIVATE KEY")) {
		if public := publicKey(path); public != nil && strings.HasPrefix(public.Type(), "sk-") {
			return wrong(finding.TunnelHardwareKey, finding.Facts{})
		}
	}
	return wrong(finding.TunnelKeyInvalid,
		finding.Facts{finding.FactDetail: "It has no private key that can be read here."})
}

// publicKey gives the public key beside a private one, or in a file that ends in .pub; nil for
// none.
func publicKey(path string) ssh.PublicKey {
	if !strings.HasSuffix(path, ".pub") {
		path += ".pub"
	}
	data, err := files.Read(path, maxKey)
	if err != nil {
		return nil
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey(data)
	if err != nil {
		return nil
	}
	return key
}

// lockedSigner opens its key when a signature is asked for, which is after the hop has said that
// it takes this key.
type lockedSigner struct {
	purse  *purse
	key    ssh.PublicKey
	path   string
	data   []byte
	opened ssh.Signer
}

// PublicKey gives the key's public part.
func (s *lockedSigner) PublicKey() ssh.PublicKey { return s.key }

// Sign opens the key and signs.
func (s *lockedSigner) Sign(rand io.Reader, data []byte) (*ssh.Signature, error) {
	return s.SignWithAlgorithm(rand, data, "")
}

// SignWithAlgorithm opens the key and signs.
func (s *lockedSigner) SignWithAlgorithm(rand io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	if s.opened == nil {
		ctx, cancel := s.purse.hop.asking()
		defer cancel()
		signer, err := s.purse.unlock(ctx, s.path, s.data)
		if err != nil {
			s.purse.hop.failure = err // the hop has said that it takes this key
			return nil, err
		}
		s.opened = signer
	}
	if many, ok := s.opened.(ssh.AlgorithmSigner); ok && algorithm != "" {
		return many.SignWithAlgorithm(rand, data, algorithm)
	}
	return s.opened.Sign(rand, data)
}

// unlock opens a key with its passphrase, which comes from the hop's secret where the hop names a
// key, else from a person.
func (p *purse) unlock(ctx context.Context, path string, data []byte) (ssh.Signer, error) {
	if p.hop.Passphrase == nil {
		return nil, &finding.Problem{Code: finding.TunnelKeyPassphrase,
			Facts: finding.Facts{finding.FactFile: path,
				finding.FactDetail: "Its passphrase is wanted, and there is nobody to ask."}}
	}
	resume := p.hop.pause()
	phrase, err := p.hop.Passphrase(ctx, path, path == p.hop.Key)
	resume()
	if err != nil {
		var problem *finding.Problem
		if errors.As(err, &problem) {
			return nil, &finding.Problem{Code: finding.TunnelKeyPassphrase, Err: err,
				Facts: finding.Facts{finding.FactFile: path,
					finding.FactDetail: "Its passphrase was not found: " + problem.Facts[finding.FactDetail]},
				Tried: problem.Tried}
		}
		return nil, err
	}
	raw, err := ssh.ParseRawPrivateKeyWithPassphrase(data, []byte(phrase.Reveal()))
	if err != nil {
		return nil, &finding.Problem{Code: finding.TunnelKeyPassphrase,
			Facts: finding.Facts{finding.FactFile: path,
				finding.FactDetail: "The passphrase that was given does not open it."}}
	}
	return ssh.NewSignerFromKey(raw)
}

// good reports whether a user's certificate can let this user in now, and notes why not.
func (p *purse) good(cert *ssh.Certificate, from string) bool {
	now := uint64(time.Now().Unix())
	why := ""
	day := func(at uint64) string { return time.Unix(int64(at), 0).Format("2006-01-02 15:04") }
	switch {
	case cert.CertType != ssh.UserCert:
		why = "It is a host's certificate, and no user's."
	case now < cert.ValidAfter:
		why = "It is not valid before " + day(cert.ValidAfter) + "."
	case cert.ValidBefore != ssh.CertTimeInfinity && now >= cert.ValidBefore:
		why = "It ended on " + day(cert.ValidBefore) + "."
	case len(cert.ValidPrincipals) > 0 && !slices.Contains(cert.ValidPrincipals, p.user):
		why = fmt.Sprintf("It is for %s, and the hop's user is %s.", strings.Join(cert.ValidPrincipals, ", "), p.user)
	default:
		return true
	}
	p.trouble(finding.TunnelCertificate, finding.Facts{finding.FactFile: from, finding.FactDetail: why})
	return false
}

// certify puts each certificate before the key that it is for.
func (p *purse) certify(certificates []*ssh.Certificate, names []string) {
	for i, cert := range certificates {
		at := slices.IndexFunc(p.list, func(c credential) bool { return c.is(cert.Key) })
		if at < 0 || p.has(cert) || !p.good(cert, names[i]) {
			continue
		}
		signer, err := ssh.NewCertSigner(cert, p.list[at].signer)
		if err == nil {
			p.list = slices.Insert(p.list, at,
				credential{signer: signer,
					from: "the certificate " + names[i] + " of authority " + Fingerprint(cert.SignatureKey)})
		}
	}
}

// openAgent connects to the agent that the hop or the configuration names, else to that of
// SSH_AUTH_SOCK.
func (p *purse) openAgent(ctx context.Context) {
	world := p.hop.Config.World
	at, named := world.agentPlace(p.hop.Agent, p.settings.One["identityagent"].Text, p.tokens)
	switch {
	case at == "none":
		return
	case at == "" && named:
		p.trouble(finding.TunnelAgentMissing,
			finding.Facts{finding.FactDetail: "SSH_AUTH_SOCK, which says where it is, is not set."})
		return
	case at == "":
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	conn, err := dialAgent(ctx, at)
	if err != nil && at == systemAgent && !named {
		return // its service is not running, as is usual
	}
	p.agentAt = at
	if err != nil {
		p.trouble(finding.TunnelAgentMissing, finding.Facts{finding.FactDetail: "Nothing answers at " + at + "."})
		return
	}
	asking, end := p.hop.asking()
	p.agentTime = asking
	stop := context.AfterFunc(asking, func() { _ = conn.Close() })
	p.agentClosed = closers{conn, stop, end}
	p.agent = agent.NewClient(conn)
	resume := p.hop.pause()
	keys, err := p.agent.List()
	resume()
	switch {
	case err != nil && p.agentTime.Err() != nil:
		p.trouble(finding.TunnelAgentMissing,
			finding.Facts{finding.FactDetail: "What answers at " + at + " did not answer within " +
				p.hop.askLimit().String() + "."})
	case err != nil:
		p.trouble(finding.TunnelAgentMissing,
			finding.Facts{finding.FactDetail: "What answers at " + at + " gave no list of keys: " + err.Error() + "."})
	case len(keys) == 0:
		p.trouble(finding.TunnelAgentEmpty, finding.Facts{finding.FactFile: at})
	}
	p.agentKeys = keys[:min(len(keys), maxAgentKeys)]
}

type closers struct {
	conn net.Conn
	stop func() bool
	end  context.CancelFunc
}

func (c closers) Close() error {
	c.stop()
	c.end()
	return c.conn.Close()
}

// dialAgent connects to an agent at a pipe or a socket.
func dialAgent(ctx context.Context, at string) (net.Conn, error) {
	if conn, is, err := route.DialPipe(ctx, at); is {
		return conn, err
	}
	var dialer net.Dialer
	return dialer.DialContext(ctx, "unix", at)
}
