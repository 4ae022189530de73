package store

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
)

// Seal encrypts secrets at rest with AES-256-GCM.
type Seal struct{ aead cipher.AEAD }

// NewSeal takes a key of 32 bytes in base64.
func NewSeal(key string) (*Seal, error) {
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(key))
	if err != nil || len(raw) != 32 {
		return nil, errors.New("the key for secrets must be 32 bytes in base64; make one with: head -c 32 /dev/urandom | base64")
	}
	block, err := aes.NewCipher(raw)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Seal{aead}, err
}

// SealFromFile reads the key from a file that only its owner may read. With
// make, a missing file is made.
func SealFromFile(path string, make bool) (*Seal, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) && make {
		raw := [32]byte{}
		if _, err := rand.Read(raw[:]); err != nil {
			return nil, err
		}
		key := base64.StdEncoding.EncodeToString(raw[:])
		if err := os.WriteFile(path, []byte(key+"\n"), 0o600); err != nil {
			return nil, fmt.Errorf("making the key file: %w", err)
		}
		return NewSeal(key)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the key file: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the key file %s can be read by others; allow only its owner: chmod 600 %s", path, path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("reading the key file: %w", err)
	}
	return NewSeal(string(text))
}

// close encrypts secrets; none gives nil.
func (s *Seal) close(secrets map[string]string) ([]byte, error) {
	if len(secrets) == 0 {
		return nil, nil
	}
	text, err := json.Marshal(secrets)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, s.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return s.aead.Seal(nonce, nonce, text, nil), nil
}

func (s *Seal) open(sealed []byte) (map[string]string, error) {
	out := map[string]string{}
	if len(sealed) == 0 {
		return out, nil
	}
	n := s.aead.NonceSize()
	if len(sealed) < n {
		return nil, errors.New("a stored secret is damaged")
	}
	text, err := s.aead.Open(nil, sealed[:n], sealed[n:], nil)
	if err != nil {
		return nil, errors.New("a stored secret can't be opened with this key; is the key file the one it was stored with?")
	}
	return out, json.Unmarshal(text, &out)
}
