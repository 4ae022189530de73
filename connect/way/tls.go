package way

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
)

// Certificates are those that a TLS connection uses besides the system's.
type Certificates struct {
	Authority   string `json:"tls_authority,omitempty" jsonschema:"title=own authority,format=long text,description=Certificates in PEM form that are trusted besides the system's"`
	Certificate string `json:"tls_certificate,omitempty" jsonschema:"title=own certificate,format=long text,description=In PEM form; where the other side asks who Welkin is"`
	Key         string `json:"tls_key,omitempty" jsonschema:"title=own certificate's key,format=secret text,description=In PEM form; kept encrypted"`
}

// CertificateSecrets are the secrets among the certificates' settings.
var CertificateSecrets = []string{"tls_key"}

// Validate says what is wrong with the settings, or nil.
func (c Certificates) Validate() error {
	_, err := c.Config("")
	return err
}

// Config gives the TLS settings for a host.
func (c Certificates) Config(host string) (*tls.Config, error) {
	out := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if c.Authority != "" {
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		if !pool.AppendCertsFromPEM([]byte(c.Authority)) {
			return nil, errors.New("tls_authority holds no certificate in PEM form")
		}
		out.RootCAs = pool
	}
	if (c.Certificate == "") != (c.Key == "") {
		return nil, errors.New("tls_certificate and tls_key belong together; give both or none")
	}
	if c.Certificate != "" {
		pair, err := tls.X509KeyPair([]byte(c.Certificate), []byte(c.Key))
		if err != nil {
			return nil, errors.New("tls_certificate and tls_key are no pair in PEM form")
		}
		out.Certificates = []tls.Certificate{pair}
	}
	return out, nil
}
