package project

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"path"
	"regexp"
	"strconv"
	"strings"
)

// Network is what programs are let reach: all of the network, hosts by their names, or
// neither.
type Network struct {
	All   bool
	Hosts []string // name, name:port, or *.name for all below
}

// hostShape is the shape of a host, whose port is the first group.
var hostShape = regexp.MustCompile(`^(?:(?:\*\.)?[A-Za-z0-9](?:[A-Za-z0-9._-]*[A-Za-z0-9])?|\[[0-9A-Fa-f:.]+\])(?::([0-9]+))?$`)

// UnmarshalJSON reads true, false, or a list of hosts.
func (n *Network) UnmarshalJSON(raw []byte) error {
	if json.Unmarshal(raw, &n.All) == nil {
		return nil
	}
	return json.Unmarshal(raw, &n.Hosts)
}

// Any says whether anything is reached.
func (n Network) Any() bool { return n.All || len(n.Hosts) > 0 }

// String says what is reached, for people; "" where nothing is.
func (n Network) String() string {
	if n.All {
		return "the whole network"
	}
	return strings.Join(n.Hosts, ", ")
}

func (c *compiler) network(d *document, at string, n Network) Network {
	out := Network{All: n.All}
	for i, h := range n.Hosts {
		at := fmt.Sprintf("%s/%d", at, i)
		h = c.vars(d, at, h)
		m := hostShape.FindStringSubmatch(h)
		if m == nil {
			c.report(Error, d.at(at), "Write the name of a host, such as api.example, api.example:443, or *.api.example for all below.", "network: %q is not a host", h)
			continue
		}
		if n, err := strconv.ParseUint(m[1], 10, 16); m[1] != "" && (err != nil || n == 0) {
			c.report(Error, d.at(at), "Write a port from 1 to 65535, or omit it.", "network: %q is not a port", m[1])
		}
		if bare := strings.Trim(strings.TrimSuffix(h, ":"+m[1]), "[]"); m[1] == "" && (bare == "localhost" || loopback(bare)) {
			c.report(Error, d.at(at), "Write the port, such as "+h+":8080.", "network: %s is this machine itself, with all that answers there", h)
		}
		out.Hosts = append(out.Hosts, h)
	}
	return out
}

// loopback says whether a host is an address of this machine alone.
func loopback(host string) bool {
	a, err := netip.ParseAddr(host)
	return err == nil && (a.Unmap().IsLoopback() || a.Unmap().IsUnspecified())
}

func (c *compiler) reads(d *document, at, key string, names []string) []string {
	var out []string
	for i, name := range names {
		at := fmt.Sprintf("%s/%d", at, i)
		switch name = c.vars(d, at, name); {
		case path.Clean(name) == ".":
			c.report(Error, d.at(at), "Name the files and folders that they need.", "%s: would open the whole project, with its .env and its records", key)
		case path.IsAbs(name):
			out = append(out, path.Clean(name))
		default:
			out = append(out, c.inside(d, at, name))
		}
	}
	return out
}
