package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"

	"welkin/store"
	"welkin/web/api"
)

type personCommand struct {
	installation
	Login string `arg:"" help:"The name to sign in with."`
	Name  string `help:"The name shown; the login when left out."`
	Role  string `help:"Rights." enum:"reader,operator,builder,admin" default:"admin"`
}

// Run adds somebody; the first admin of an installation is made this way.
func (c *personCommand) Run(ctx context.Context) error {
	if c.Name == "" {
		c.Name = c.Login
	}
	password, err := readPassword()
	if err != nil {
		return err
	}
	if len(password) < 10 {
		return &exitError{exitBadUse, errors.New("the password needs at least ten characters")}
	}
	s, err := c.open(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	_, err = s.AddPerson(ctx, store.Person{Login: c.Login, Name: c.Name, Role: c.Role, PasswordHash: api.HashPassword(password)})
	if errors.Is(err, store.ErrConflict) {
		return fmt.Errorf("somebody signs in as %s already", c.Login)
	}
	return err
}

// readPassword asks at a terminal, and otherwise reads a line.
func readPassword() (string, error) {
	if fd := int(os.Stdin.Fd()); term.IsTerminal(fd) {
		fmt.Fprint(os.Stderr, "password: ")
		text, err := term.ReadPassword(fd)
		fmt.Fprintln(os.Stderr)
		return string(text), err
	}
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if line == "" && err != nil {
		return "", errors.New("no password came on standard input")
	}
	return strings.TrimRight(line, "\r\n"), nil
}
