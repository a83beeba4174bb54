package service

import (
	"net"
	"path/filepath"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/usage"
	"spindle/internal/door"
	"spindle/internal/works"
)

// Config of a service. Zero values mean the defaults named here.
type Config struct {
	AcceptVolume bool   // take main's volume as it is, although its marker is not the one the catalog knows
	Data         string // directory of everything; required
	Wire         string // address of the wire; default 127.0.0.1:5710
	Desk         string // address of the desk; default 127.0.0.1:5711
	Database     string // URL of a PostgreSQL; "" for a private one under Data

	KeepLog string // where a private database's log is kept; "" for none

	Region       string   // default "fenn"
	Account      string   // of the owner; default "owner"
	Domains      []string // of host style; default "localhost"
	Origins      []string // pages that may call the wire; default "*"
	StrictRegion bool
	WireURL      string // how clients reach the wire, when not by the desk's host name

	Reach []string // where endpoints may be beside public addresses: loopback, private, networks

	TLSCert, TLSKey string // PEM files; both or none
	PlainHTTP       bool   // allow plain HTTP beyond loopback

	MasterKey string // hex; while it is rotated NEW,OLD; "" for a file under Data

	OwnerKey, OwnerSecret string // of the first key; "" for generated ones

	SlowAfter time.Duration // how long a client may be silent; default 30 s

	Money           usage.Money // how sums of prices are told
	Connections     int         // that the wire holds at a time; default what descriptors allow, at most 8,192
	ConnectionsEach int         // of them, from one address; default half of them
	Works           works.Settings
}

// Defaults of addresses.
const (
	DefaultWire = "127.0.0.1:5710"
	DefaultDesk = "127.0.0.1:5711"
)

func (c *Config) fill() error {
	set := func(s *string, v string) {
		if *s == "" {
			*s = v
		}
	}
	set(&c.Wire, DefaultWire)
	set(&c.Desk, DefaultDesk)
	set(&c.Region, "fenn")
	set(&c.Account, "owner")
	if c.Money == (usage.Money{}) {
		c.Money.Digits = 2
	}
	if c.Connections == 0 {
		c.Connections = door.Share(0.75, 8192)
	}
	if c.ConnectionsEach == 0 {
		c.ConnectionsEach = max(4, c.Connections/2)
	}
	if c.Connections < 8 || c.ConnectionsEach < 4 || c.ConnectionsEach > c.Connections {
		return fault.New(fault.Invalid, "connections",
			"the wire holds 8 connections at least, and 4 to all of them from one address").In("connections").
			Do("leave both settings out unless there is a reason")
	}
	if c.Domains == nil {
		c.Domains = []string{"localhost"}
	}
	if c.Origins == nil {
		c.Origins = []string{"*"}
	}
	if c.KeepLog != "" && c.Database != "" {
		return fault.New(fault.Invalid, "keep-log",
			"the log of a database elsewhere is kept by its own server").In("keep-log").
			Do("set its archive_mode and archive_command; see docs/operations.md")
	}
	if c.Data == "" {
		return fault.New(fault.Invalid, "data-missing", "no data directory is given").In("data").
			Do("give one: --data DIR, or SPINDLE_DATA")
	}
	var err error
	if c.Data, err = filepath.Abs(c.Data); err != nil {
		return err
	}
	if (c.TLSCert == "") != (c.TLSKey == "") {
		return fault.New(fault.Invalid, "tls-half", "a certificate and its key are needed together").In("tls-cert").
			Do("give --tls-cert and --tls-key")
	}
	if (c.OwnerKey == "") != (c.OwnerSecret == "") {
		return fault.New(fault.Invalid, "owner-half", "the owner's key and secret are needed together").
			In("SPINDLE_OWNER_KEY").Do("set SPINDLE_OWNER_KEY and SPINDLE_OWNER_SECRET, or neither")
	}
	for flag, addr := range map[string]string{"wire": c.Wire, "desk": c.Desk} {
		host, _, err := net.SplitHostPort(addr)
		if err != nil {
			return fault.New(fault.Invalid, "address", "%q is no address to listen on", addr).In(flag).
				Do("give it as HOST:PORT, for instance 127.0.0.1:5710").Because(err)
		}
		if c.TLSCert == "" && !c.PlainHTTP && !loopback(host) {
			return fault.New(fault.Refused, "plain-http", "%s would be reached from beyond this machine, in plain HTTP", addr).
				In(flag).
				Do("give --tls-cert and --tls-key, or say --plain-http when something before it does TLS")
		}
	}
	return nil
}

func loopback(host string) bool {
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}
