package link

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strings"

	"github.com/kevinburke/ssh_config"
)

// hopsMost is how many hosts a connection may go past.
const hopsMost = 8

// Find is how a host is logged in to, by what the person's configuration of ssh says of it: its
// real name, port, user, keys, known hosts and the hosts on the way. at is "host", "user@host" or
// either with ":port". file is that configuration, "" for ~/.ssh/config; there need not be one.
func Find(at, file string) (Login, error) {
	home, err := os.UserHomeDir()
	if err != nil {
		return Login{}, err
	}
	if file == "" {
		file = filepath.Join(home, ".ssh", "config")
	}
	config := &ssh_config.Config{}
	f, err := os.Open(file)
	if err == nil {
		defer f.Close()
		if config, err = ssh_config.Decode(f); err != nil {
			return Login{}, fmt.Errorf("read %s: %w", file, err)
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return Login{}, err
	}
	return found{config, home}.login(at, 0)
}

// found is a person's configuration.
type found struct {
	config *ssh_config.Config
	home   string
}

func (f found) get(host, key string) string {
	value, err := f.config.Get(host, key)
	if err != nil {
		return ""
	}
	return value
}

func (f found) login(at string, depth int) (Login, error) {
	if depth > hopsMost {
		return Login{}, fmt.Errorf("%s: more than %d hosts are on the way (ProxyJump in ~/.ssh/config)", at, hopsMost)
	}
	at = strings.TrimPrefix(at, "ssh://")
	name, host, named := strings.Cut(at, "@")
	if !named {
		name, host = "", at
	}
	port := ""
	if h, p, err := net.SplitHostPort(host); err == nil {
		host, port = h, p
	}
	if host == "" {
		return Login{}, fmt.Errorf("%q names no host", at)
	}
	l := Login{User: first(name, f.get(host, "User")), KnownHosts: f.path(f.get(host, "UserKnownHostsFile"))}
	real := strings.ReplaceAll(first(f.get(host, "HostName"), host), "%h", host)
	l.Address = net.JoinHostPort(real, first(port, f.get(host, "Port"), "22"))
	if l.User == "" {
		u, err := user.Current()
		if err != nil {
			return l, err
		}
		l.User = u.Username
	}
	files, _ := f.config.GetAll(host, "IdentityFile")
	for _, file := range files {
		if file = f.path(file); file != "" {
			l.Identities = append(l.Identities, file)
		}
	}
	if len(files) == 0 && os.Getenv("SSH_AUTH_SOCK") == "" { // as ssh has it
		for _, usual := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
			if file := filepath.Join(f.home, ".ssh", usual); exists(file) {
				l.Identities = append(l.Identities, file)
			}
		}
	}
	jump := f.get(host, "ProxyJump")
	if jump == "" || jump == "none" {
		if command := f.get(host, "ProxyCommand"); command != "" && command != "none" {
			return l, fmt.Errorf("%s has a ProxyCommand in ~/.ssh/config, which is not followed: say ProxyJump", host)
		}
		return l, nil
	}
	for _, hop := range strings.Split(jump, ",") {
		past, err := f.login(strings.TrimSpace(hop), depth+1)
		if err != nil {
			return l, err
		}
		l.Past = append(append(l.Past, past.Past...), past)
		l.Past[len(l.Past)-1].Past = nil
	}
	return l, nil
}

// path is a file as a configuration names it, of several the first.
func (f found) path(text string) string {
	text, _, _ = strings.Cut(strings.TrimSpace(text), " ")
	text = strings.Trim(text, `"`)
	if rest, ok := strings.CutPrefix(text, "~/"); ok {
		text = filepath.Join(f.home, rest)
	}
	return strings.ReplaceAll(text, "%d", f.home)
}

func first(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return t
		}
	}
	return ""
}

func exists(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}
