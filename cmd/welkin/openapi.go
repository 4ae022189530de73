package main

import (
	"os"

	"welkin/web/api"
)

type openapiCommand struct{}

// Run prints the OpenAPI document; `make generate` saves it.
func (openapiCommand) Run() error {
	doc, err := api.OpenAPI()
	if err != nil {
		return err
	}
	_, err = os.Stdout.Write(append(doc, '\n'))
	return err
}
