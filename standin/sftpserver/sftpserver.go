// Package sftpserver is a simulated machine that gives a folder's files by SFTP, for
// the demo and the tests, and lets others be reached through it by tunnels.
package sftpserver

import (
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// Server is a running server on loopback.
type Server struct {
	listener net.Listener
	root     *os.Root
	config   *ssh.ServerConfig
	key      ssh.PublicKey
	mu       sync.Mutex
	open     map[net.Conn]bool
	done     sync.WaitGroup
}

// Start serves a folder on an address to one user; port 0 takes a free one. seed
// makes the host key, so that its fingerprint stays the same.
func Start(address, folder, user, password string, seed [32]byte) (*Server, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(seed[:]))
	if err != nil {
		return nil, err
	}
	s := &Server{root: root, key: signer.PublicKey(), open: map[net.Conn]bool{}}
	s.config = &ssh.ServerConfig{PasswordCallback: func(c ssh.ConnMetadata, given []byte) (*ssh.Permissions, error) {
		if c.User() == user && string(given) == password {
			return nil, nil
		}
		return nil, errors.New("wrong user or password")
	}}
	s.config.AddHostKey(signer)
	if s.listener, err = net.Listen("tcp", address); err != nil {
		_ = root.Close()
		return nil, fmt.Errorf("the SFTP stand-in can't listen on %s: %w", address, err)
	}
	s.done.Add(1)
	go s.accept()
	return s, nil
}

// Port is where it listens.
func (s *Server) Port() int { return s.listener.Addr().(*net.TCPAddr).Port }

// Fingerprint is that of the host key.
func (s *Server) Fingerprint() string { return ssh.FingerprintSHA256(s.key) }

// Close ends the server and all that is open.
func (s *Server) Close() {
	_ = s.listener.Close()
	s.mu.Lock()
	for c := range s.open {
		_ = c.Close()
	}
	s.mu.Unlock()
	s.done.Wait()
	_ = s.root.Close()
}

func (s *Server) accept() {
	defer s.done.Done()
	for {
		conn, err := s.listener.Accept()
		if err != nil {
			return
		}
		s.mu.Lock()
		s.open[conn] = true
		s.mu.Unlock()
		s.done.Add(1)
		go func() {
			defer s.done.Done()
			s.serve(conn)
			_ = conn.Close()
			s.mu.Lock()
			delete(s.open, conn)
			s.mu.Unlock()
		}()
	}
}

func (s *Server) serve(conn net.Conn) {
	_, channels, requests, err := ssh.NewServerConn(conn, s.config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for fresh := range channels {
		switch fresh.ChannelType() {
		case "session":
			channel, requests, err := fresh.Accept()
			if err != nil {
				return
			}
			go s.session(channel, requests)
		case "direct-tcpip":
			go s.tunnel(fresh)
		default:
			_ = fresh.Reject(ssh.UnknownChannelType, "not here")
		}
	}
}

func (s *Server) session(channel ssh.Channel, requests <-chan *ssh.Request) {
	defer channel.Close()
	for r := range requests {
		is := r.Type == "subsystem" && len(r.Payload) > 4 && string(r.Payload[4:]) == "sftp"
		_ = r.Reply(is, nil)
		if !is {
			continue
		}
		h := handler{s.root}
		server := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h})
		_ = server.Serve()
		return
	}
}

// tunnel connects a channel with another machine (RFC 4254, 7.2).
func (s *Server) tunnel(fresh ssh.NewChannel) {
	var to struct {
		Host string
		Port uint32
		From string
		Back uint32
	}
	if err := ssh.Unmarshal(fresh.ExtraData(), &to); err != nil {
		_ = fresh.Reject(ssh.ConnectionFailed, "what is asked for can't be read")
		return
	}
	other, err := net.Dial("tcp", net.JoinHostPort(to.Host, fmt.Sprint(to.Port)))
	if err != nil {
		_ = fresh.Reject(ssh.ConnectionFailed, "nothing answers there")
		return
	}
	defer other.Close()
	channel, requests, err := fresh.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	go ssh.DiscardRequests(requests)
	go func() {
		_, _ = io.Copy(other, channel)
		_ = other.Close()
	}()
	_, _ = io.Copy(channel, other)
}

// handler does what is asked for in the folder.
type handler struct{ root *os.Root }

func local(name string) string {
	if name = strings.TrimPrefix(path.Clean("/"+name), "/"); name == "" {
		return "."
	}
	return name
}

// Fileread implements sftp.FileReader.
func (h handler) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	return h.root.Open(local(r.Filepath))
}

// Filewrite implements sftp.FileWriter.
func (h handler) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	return h.root.OpenFile(local(r.Filepath), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
}

// Filecmd implements sftp.FileCmder.
func (h handler) Filecmd(r *sftp.Request) error {
	switch r.Method {
	case "Rename":
		return h.root.Rename(local(r.Filepath), local(r.Target))
	case "Remove", "Rmdir":
		return h.root.Remove(local(r.Filepath))
	case "Mkdir":
		return h.root.Mkdir(local(r.Filepath), 0o755)
	case "Setstat":
		return nil
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename implements sftp.PosixRenameFileCmder.
func (h handler) PosixRename(r *sftp.Request) error {
	return h.root.Rename(local(r.Filepath), local(r.Target))
}

// Filelist implements sftp.FileLister.
func (h handler) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method != "List" {
		info, err := h.root.Stat(local(r.Filepath))
		if err != nil {
			return nil, err
		}
		return list{info}, nil
	}
	f, err := h.root.Open(local(r.Filepath))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	found, err := f.Readdir(-1)
	return list(found), err
}

type list []os.FileInfo

// ListAt implements sftp.ListerAt.
func (l list) ListAt(to []os.FileInfo, from int64) (int, error) {
	if from >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(to, l[from:])
	if n < len(to) {
		return n, io.EOF
	}
	return n, nil
}
