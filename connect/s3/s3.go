// Package s3 is the connection kind for object stores that speak the S3 protocol.
// s3.go has the kind and its check list, place.go keeps files in a bucket.
package s3

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"welkin/connect"
	"welkin/connect/filestore"
	"welkin/connect/way"
)

// Kind is the S3 kind.
var Kind = connect.Kind{
	Name: "s3", Holds: connect.HoldsFiles, Secrets: append(append([]string{"secret_key"}, way.TunnelSecrets...), way.CertificateSecrets...),
	Help: "Files in a bucket of an object store that speaks the S3 protocol.",
	New:  func() connect.Settings { return &Settings{} },
	Open: func(_ context.Context, s connect.Settings) (connect.Connection, error) { return open(s.(*Settings)) },
}

// Settings of a bucket.
type Settings struct {
	Host   string `json:"host" jsonschema:"title=host,description=The store's name or address"`
	Port   int    `json:"port,omitempty" jsonschema:"title=port,description=443 with encryption and 80 without when left out"`
	Bucket string `json:"bucket" jsonschema:"title=bucket"`
	Prefix string `json:"prefix,omitempty" jsonschema:"title=folder,description=A folder in the bucket beyond which nothing is seen; all of it when left out"`
	Region string `json:"region,omitempty" jsonschema:"title=region,description=Found by itself when left out"`
	Key    string `json:"access_key" jsonschema:"title=access key,description=The name of the key; give it no more rights than the pipelines need"`
	Secret string `json:"secret_key,omitempty" jsonschema:"title=secret key,format=password,description=Kept encrypted and never shown again"`
	TLS    string `json:"tls,omitempty" jsonschema:"title=encryption,enum=require,enum=disable"`
	way.Tunnel
	way.Certificates
}

// Validate implements connect.Settings.
func (s *Settings) Validate() error {
	switch {
	case s.Host == "":
		return errors.New("host is missing; give the store's name or address")
	case len(s.Bucket) < 3:
		return errors.New("bucket is missing; names of buckets have three characters or more")
	case s.Key == "":
		return errors.New("access_key is missing; give the name of the key")
	case s.Port < 0 || s.Port > 65535:
		return fmt.Errorf("port %d can't be; ports go from 1 to 65535", s.Port)
	}
	return errors.Join(s.Tunnel.Validate(), s.Certificates.Validate())
}

func (s *Settings) secure() bool { return s.TLS != "disable" }

func (s *Settings) address() string {
	port := s.Port
	switch {
	case port != 0:
	case s.secure():
		port = 443
	default:
		port = 80
	}
	return net.JoinHostPort(s.Host, fmt.Sprint(port))
}

// Bucket is an open bucket.
type Bucket struct {
	filestore.Files
	settings *Settings
	way      *way.Way
	client   *minio.Client
	bucket   string
}

func open(s *Settings) (*Bucket, error) {
	w := &way.Way{Tunnel: s.Tunnel}
	config, err := s.Certificates.Config(s.Host)
	if err != nil {
		return nil, err
	}
	transport := &http.Transport{DialContext: w.Dial, TLSClientConfig: config, TLSHandshakeTimeout: way.Patience, ResponseHeaderTimeout: 60 * time.Second, MaxIdleConnsPerHost: 8, IdleConnTimeout: time.Minute, DisableCompression: true}
	client, err := minio.New(s.address(), &minio.Options{Creds: credentials.NewStaticV4(s.Key, s.Secret, ""), Secure: s.secure(), Region: s.Region, Transport: transport, BucketLookup: minio.BucketLookupPath, MaxRetries: 3})
	if err != nil {
		return nil, fmt.Errorf("%s is no address of a store; give host and port apart", s.Host)
	}
	b := &Bucket{settings: s, way: w, client: client, bucket: s.Bucket}
	b.Files = filestore.Files{Place: &place{b, strings.Trim(s.Prefix, "/")}}
	return b, nil
}

// Close implements connect.Connection.
func (b *Bucket) Close() error { return b.way.Close() }

// Check implements connect.Connection.
func (b *Bucket) Check(ctx context.Context) []connect.CheckLine {
	c := way.Begin(append(b.settings.Tunnel.ReachLines(), "sign-in", "the bucket is there", "may read", "may write")...)
	if !c.Reach(ctx, b.way, b.settings.Host, b.settings.address()) {
		return c.Lines
	}
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	there, err := b.client.BucketExists(ctx, b.bucket)
	if err != nil {
		return c.Bad(b.explain(err, b.bucket), "Correct the keys; if they are right, the encryption or the region.", "secret_key")
	}
	way := "not encrypted"
	if b.settings.secure() {
		way = "encrypted"
	}
	c.Good("the keys are taken, %s", way)
	if !there {
		return c.Bad(fmt.Errorf("there is no bucket %q", b.bucket), "Correct the bucket's name, or make it.", "bucket")
	}
	c.Good("%s", b.bucket)
	n := 0
	if err := b.Place.List(ctx, "", false, func(filestore.Info) bool { n++; return n < 1000 }); err != nil {
		return c.Bad(err, "Give the key the right to list and read the bucket.", "access_key")
	}
	c.Good("%d entries at the top", n)
	probe := ".welkin-check"
	if err := b.Place.Put(ctx, probe, strings.NewReader("welkin"), 6); err != nil {
		c.Note("no; that is fine for a bucket that is only read", "To write files here, give the key the right to.")
		return c.Lines
	}
	_ = b.Place.Remove(ctx, probe)
	c.Good("a file was made and removed again")
	return c.Lines
}

// explain turns the client's error into a sentence without secrets.
func (b *Bucket) explain(err error, name string) error {
	var answer minio.ErrorResponse
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return err
	case errors.As(err, &answer):
		switch answer.Code {
		case "NoSuchKey":
			return fmt.Errorf("%s is not there; it may have been moved or deleted", name)
		case "NoSuchBucket":
			return fmt.Errorf("there is no bucket %q", b.bucket)
		case "InvalidAccessKeyId", "SignatureDoesNotMatch":
			return fmt.Errorf("the store refused the key %q: wrong secret, or no such key; correct them in the connection", b.settings.Key)
		case "AccessDenied":
			return fmt.Errorf("the key %q may not do that with %s", b.settings.Key, name)
		}
		if answer.Message != "" {
			return fmt.Errorf("the store said of %s: %s", name, strings.TrimRight(answer.Message, "."))
		}
	}
	return way.Explain(err, b.settings.Host, b.settings.address())
}
