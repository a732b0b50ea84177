package connection

import (
	"context"
	"fmt"
	"net"
	"strings"
	"time"

	"noemata/internal/connection/tunnel"
	"noemata/internal/core/problem"
)

// Step is one of what it takes to use a database, in their order.
type Step string

// The steps.
const (
	StepName       Step = "name"       // the host's name is known
	StepTunnel     Step = "tunnel"     // the servers on the way let it through
	StepNetwork    Step = "network"    // something listens there
	StepTLS        Step = "TLS"        // it is the right one
	StepSignIn     Step = "sign-in"    // the user may sign in
	StepDatabase   Step = "database"   // the database is there
	StepPrivileges Step = "privileges" // the user may do what it must
	StepAsking     Step = "asking"     // the user whom questions are asked as may read, and no more
	StepClock      Step = "clock"      // its clock goes as the service's does
)

// Taken is a step that was taken, or at which a test ended.
type Taken struct {
	Step   Step    `json:"step" enum:"name,tunnel,network,TLS,sign-in,database,privileges,asking,clock" doc:"What was tried"`
	Done   bool    `json:"done" doc:"Whether it went well; where it did not, it is the last one"`
	Said   string  `json:"said,omitempty" doc:"What was found"`
	Warns  bool    `json:"warns,omitempty" doc:"Whether what was found is worth a look"`
	Remedy string  `json:"remedy,omitempty" doc:"What to do about it"`
	Took   float64 `json:"took" doc:"How long it took, in seconds"`
}

// StepOf is the step at which a problem ended a test: that of the setting which is to be corrected.
func StepOf(p *problem.Problem) Step {
	field, _, _ := strings.Cut(p.Field, ".")
	switch field {
	case "tunnel":
		return StepTunnel
	case "tls", "ca", "certificate", "key":
		return StepTLS
	case "user", "password", "password_in_clear":
		return StepSignIn
	case "ask_user", "ask_password":
		return StepAsking
	case "database", "path":
		return StepDatabase
	}
	switch p.Code {
	case problem.Denied:
		return StepSignIn
	case problem.Unreachable:
		return StepNetwork
	}
	return StepPrivileges
}

// Reach goes the way to a server, step by step, and says nothing to it. The error of the last step is
// explained; at and what name the server for a person, as in Explain.
func (s Settings) Reach(ctx context.Context, at, what string) (taken []Taken, err error) {
	began := time.Now()
	next := func(step Step, err error, said string) error {
		taken = append(taken, Taken{Step: step, Done: err == nil, Said: said, Took: time.Since(began).Seconds()})
		began = time.Now()
		return err
	}
	if strings.HasPrefix(s.Host, "/") {
		return nil, nil // a socket's path is the kind's
	}
	switch {
	case len(s.Tunnel) > 0:
		if err = tunnel.Through(s.Tunnel).Enter(ctx); err != nil {
			err = next(StepTunnel, Explain(err, at, what, s), "")
			return taken, err
		}
		_ = next(StepTunnel, nil, "through "+hops(s.Tunnel))
	case net.ParseIP(s.Host) == nil:
		limited, cancel := context.WithTimeout(ctx, DialTimeout)
		found, err := net.DefaultResolver.LookupHost(limited, s.Host)
		cancel()
		if err != nil {
			err = next(StepName, Explain(err, at, what, s), "")
			return taken, err
		}
		_ = next(StepName, nil, strings.Join(found[:min(len(found), 3)], ", "))
	}
	conn, err := s.Dial(ctx, "tcp", s.Address())
	if err != nil {
		err = next(StepNetwork, Explain(err, at, what, s), "")
		return taken, err
	}
	_ = conn.Close()
	_ = next(StepNetwork, nil, "something listens at "+s.Address())
	return taken, nil
}

func hops(list []tunnel.Hop) string {
	names := make([]string, len(list))
	for i, h := range list {
		names[i] = fmt.Sprintf("%s (%s)", h.Address(), h.HostKey)
	}
	return strings.Join(names, ", then ")
}
