package way

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"
)

// Tunnel is a machine through which others are reached by SSH.
type Tunnel struct {
	Host     string `json:"ssh_host,omitempty" jsonschema:"title=tunnel by,description=A machine that is reached by SSH and reaches the other one; none when left out"`
	Port     int    `json:"ssh_port,omitempty" jsonschema:"title=tunnel port,description=22 when left out"`
	User     string `json:"ssh_user,omitempty" jsonschema:"title=tunnel user"`
	Password string `json:"ssh_password,omitempty" jsonschema:"title=tunnel password,format=password,description=Kept encrypted; leave it out with a key"`
	Key      string `json:"ssh_key,omitempty" jsonschema:"title=tunnel key,format=secret text,description=A private key in OpenSSH's form; kept encrypted"`
	HostKey  string `json:"ssh_host_key,omitempty" jsonschema:"title=tunnel host key,description=The machine's fingerprint such as SHA256:… so that nobody can stand in for it"`
}

// TunnelSecrets are the secrets among a tunnel's settings.
var TunnelSecrets = []string{"ssh_password", "ssh_key"}

// Used tells whether there is a tunnel.
func (t Tunnel) Used() bool { return t.Host != "" }

// Validate says what is wrong with the settings, or nil.
func (t Tunnel) Validate() error {
	switch {
	case !t.Used():
		return nil
	case t.User == "":
		return errors.New("ssh_user is missing; give the user of the tunnel's machine")
	case t.Password == "" && t.Key == "":
		return errors.New("ssh_password is missing; give a password or a key for the tunnel")
	case t.Port < 0 || t.Port > 65535:
		return fmt.Errorf("ssh_port %d can't be; ports go from 1 to 65535", t.Port)
	}
	return nil
}

func (t Tunnel) dial(ctx context.Context) (*ssh.Client, error) {
	return SSH(t).Dial(ctx)
}

// SSH is how one signs in at a machine by SSH.
type SSH struct {
	Host          string
	Port          int
	User          string
	Password, Key string
	HostKey       string // the fingerprint expected; "" takes any
}

// Address is host and port.
func (s SSH) Address() string {
	port := s.Port
	if port == 0 {
		port = 22
	}
	return net.JoinHostPort(s.Host, strconv.Itoa(port))
}

// Dial signs in.
func (s SSH) Dial(ctx context.Context) (*ssh.Client, error) {
	var auth []ssh.AuthMethod
	if s.Key != "" {
		signer, err := ssh.ParsePrivateKey([]byte(s.Key))
		var locked *ssh.PassphraseMissingError
		if errors.As(err, &locked) {
			signer, err = ssh.ParsePrivateKeyWithPassphrase([]byte(s.Key), []byte(s.Password))
		}
		if err != nil {
			return nil, errors.New("the private key can't be read; give one in OpenSSH's form, and its pass phrase as the password if it has one")
		}
		auth = append(auth, ssh.PublicKeys(signer))
	}
	if s.Password != "" {
		auth = append(auth, ssh.Password(s.Password), ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
			answers := make([]string, len(questions))
			for i := range answers {
				answers[i] = s.Password
			}
			return answers, nil
		}))
	}
	config := &ssh.ClientConfig{User: s.User, Auth: auth, Timeout: Patience, HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
		if found := ssh.FingerprintSHA256(key); s.HostKey != "" && found != strings.TrimSpace(s.HostKey) {
			return &HostKeyError{s.Host, found}
		}
		return nil
	}}
	conn, err := (&net.Dialer{Timeout: Patience}).DialContext(ctx, "tcp", s.Address())
	if err != nil {
		return nil, Explain(err, s.Host, s.Address())
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	c, channels, requests, err := ssh.NewClientConn(conn, s.Address(), config)
	if err != nil {
		_ = conn.Close()
		var host *HostKeyError
		switch {
		case errors.As(err, &host):
			return nil, host
		case strings.Contains(err.Error(), "unable to authenticate"):
			return nil, fmt.Errorf("%s refused user %q: wrong password or key", s.Host, s.User)
		}
		return nil, fmt.Errorf("%s does not speak SSH: %w", s.Address(), err)
	}
	return ssh.NewClient(c, channels, requests), nil
}

// HostKeyError says that a machine is not the one expected.
type HostKeyError struct{ Host, Found string }

func (e *HostKeyError) Error() string {
	return fmt.Sprintf("%s shows the host key %s, which is not the one expected; if the machine was set up anew, put that one into the settings, otherwise somebody stands in for it", e.Host, e.Found)
}

// Explain turns a failure to reach a machine into a sentence.
func Explain(err error, host, address string) error {
	var dns *net.DNSError
	var op *net.OpError
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return err
	case errors.As(err, &dns):
		return fmt.Errorf("the name %q is not known; correct the host", host)
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("%s did not answer in time", address)
	case errors.As(err, &op) && op.Op == "dial":
		return fmt.Errorf("nothing answers at %s; is it running, and does a firewall let Welkin through?", address)
	}
	return err
}
