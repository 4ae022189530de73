package step

import (
	"context"
	"io"
	"net/url"
)

// APIs is a World with connections to HTTP APIs.
type APIs interface {
	// API gives a connection to an API.
	API(ctx context.Context, connection string) (API, error)
}

// API asks an HTTP API. Keys, pauses, and asking again after a refusal are its own.
type API interface {
	// Ask fetches one reply. Errors are sentences; whoever asks closes the reply.
	Ask(ctx context.Context, r APIRequest) (*APIReply, error)
}

// APIRequest is what is asked for: a path below the connection's address with
// parameters, or an address of a next page.
type APIRequest struct {
	Path    string
	Params  url.Values
	Address string
}

// APIReply is a reply that is good.
type APIReply struct {
	Status  int
	Address string
	Header  map[string][]string
	Body    io.ReadCloser
	Waits   []string // what was waited for before it came, a sentence each
}
