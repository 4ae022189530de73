// Package sftp is the connection kind for folders on machines that are reached by
// SFTP. sftp.go has the kind and its check list, place.go keeps files there.
package sftp

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"welkin/connect"
	"welkin/connect/filestore"
	"welkin/connect/way"
)

// Kind is the SFTP kind.
var Kind = connect.Kind{
	Name: "sftp", Holds: connect.HoldsFiles, Secrets: []string{"password", "key"},
	Help: "Files in a folder of a machine that is reached by SFTP.",
	New:  func() connect.Settings { return &Settings{} },
	Open: func(_ context.Context, s connect.Settings) (connect.Connection, error) {
		return open(s.(*Settings)), nil
	},
}

// Settings of a folder.
type Settings struct {
	Host     string `json:"host" jsonschema:"title=host,description=Name or address of the machine"`
	Port     int    `json:"port,omitempty" jsonschema:"title=port,description=22 when left out"`
	User     string `json:"user" jsonschema:"title=user"`
	Password string `json:"password,omitempty" jsonschema:"title=password,format=password,description=Kept encrypted; with a key its pass phrase if it has one"`
	Key      string `json:"key,omitempty" jsonschema:"title=private key,format=secret text,description=In OpenSSH's form; kept encrypted"`
	HostKey  string `json:"host_key,omitempty" jsonschema:"title=host key,description=The machine's fingerprint such as SHA256:… so that nobody can stand in for it"`
	Path     string `json:"path,omitempty" jsonschema:"title=folder,description=Beyond which nothing is seen; the user's own when left out"`
}

// Validate implements connect.Settings.
func (s *Settings) Validate() error {
	switch {
	case s.Host == "":
		return errors.New("host is missing; give the machine's name or address")
	case s.User == "":
		return errors.New("user is missing; give the user's name")
	case s.Password == "" && s.Key == "":
		return errors.New("password is missing; give a password or a private key")
	case s.Port < 0 || s.Port > 65535:
		return fmt.Errorf("port %d can't be; ports go from 1 to 65535", s.Port)
	}
	return nil
}

func (s *Settings) ssh() way.SSH {
	return way.SSH{Host: s.Host, Port: s.Port, User: s.User, Password: s.Password, Key: s.Key, HostKey: s.HostKey}
}

// Folder is an open folder.
type Folder struct {
	filestore.Files
	settings *Settings
	mu       sync.Mutex
	ssh      *ssh.Client
	client   *sftp.Client
}

func open(s *Settings) *Folder {
	f := &Folder{settings: s}
	f.Files = filestore.Files{Place: &place{f}}
	return f
}

// get signs in when it is needed first, or again after the connection was lost.
func (f *Folder) get(ctx context.Context) (*sftp.Client, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.client != nil {
		if _, err := f.client.Getwd(); err == nil {
			return f.client, nil
		}
		_ = f.client.Close()
		_ = f.ssh.Close()
		f.client = nil
	}
	client, err := f.settings.ssh().Dial(ctx)
	if err != nil {
		return nil, err
	}
	files, err := sftp.NewClient(client)
	if err != nil {
		_ = client.Close()
		return nil, fmt.Errorf("%s lets user %q in, but gives no files by SFTP: %w", f.settings.Host, f.settings.User, err)
	}
	f.ssh, f.client = client, files
	return files, nil
}

// Close implements connect.Connection.
func (f *Folder) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.client == nil {
		return nil
	}
	_ = f.client.Close()
	_ = f.ssh.Close()
	f.client = nil
	return nil
}

// Check implements connect.Connection.
func (f *Folder) Check(ctx context.Context) []connect.CheckLine {
	c := way.Begin("the name resolves", "the port answers", "sign-in", "the host key", "may read", "may write")
	if !c.Reach(ctx, &way.Way{}, f.settings.Host, f.settings.ssh().Address()) {
		return c.Lines
	}
	_, err := f.get(ctx)
	var host *way.HostKeyError
	switch {
	case errors.As(err, &host):
		c.Note("not tried: the machine is another one than expected", "")
		return c.Bad(err, "Put the fingerprint that is right into the settings.", "host_key")
	case err != nil:
		return c.Bad(err, "Correct user, password or key.", "password")
	}
	c.Good("as %s", f.settings.User)
	if f.settings.HostKey == "" {
		c.Good("any is taken; put the fingerprint into the settings so that nobody can stand in for the machine")
	} else {
		c.Good("is the one expected")
	}
	n := 0
	if err := f.Place.List(ctx, "", false, func(filestore.Info) bool { n++; return true }); err != nil {
		return c.Bad(err, "Correct the folder, or give the user the right to read it.", "path")
	}
	c.Good("%d entries", n)
	probe := ".welkin-check"
	if err := f.Place.Put(ctx, probe, strings.NewReader("welkin"), 6); err != nil {
		c.Note("no; that is fine for a folder that is only read", "To write files here, give the user the right to.")
		return c.Lines
	}
	_ = f.Place.Remove(ctx, probe)
	c.Good("a file was made and removed again")
	return c.Lines
}

func (f *Folder) explain(err error, name string) error {
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%s is not there; it may have been moved or deleted", name)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%s may not be opened; give user %q the right to", name, f.settings.User)
	case errors.Is(err, sftp.ErrSSHFxConnectionLost):
		return fmt.Errorf("the connection to %s was lost at %s", f.settings.Host, name)
	}
	return fmt.Errorf("%s: %w", name, err)
}
