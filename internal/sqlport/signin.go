package sqlport

import (
	"crypto/tls"
	"errors"
	"io"
	"maps"
	"net/http"
	"slices"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/xdg-go/scram"

	"noemata/internal/asking"
	"noemata/internal/core/problem"
	"noemata/internal/records"
	"noemata/internal/store"
)

// errGone is the end of a session that needs no word in the log.
var errGone = errors.New("the client has gone")

// open comes to where questions can be asked; false where the connection is over.
func (x *session) open() (bool, error) {
	_ = x.conn.SetDeadline(time.Now().Add(signInWithin))
	x.backend = pgproto3.NewBackend(x.conn, x.conn)
	startup, err := x.startup()
	if startup == nil || err != nil {
		return false, err
	}
	x.backend.SetMaxBodyLen(messageAtMost)
	user := startup.Parameters["user"]
	if x.warehouse = startup.Parameters["database"]; x.warehouse == "" {
		x.warehouse = user
	}
	maps.Copy(x.settings, startup.Parameters)
	if startup.ProtocolVersion&0xffff > 0 {
		x.backend.Send(&pgproto3.NegotiateProtocolVersion{NewestMinorProtocol: 0})
	}
	token, ok, err := x.signIn(user)
	if !ok || err != nil {
		return false, err
	}
	x.asker = asking.Asker{Token: token, Address: x.address, Way: records.BySQL}
	if _, any := token.MayAsk(x.warehouse); !any {
		return false, x.fatal("42501", asking.NotAllowed(token.Name, x.warehouse).Error())
	}
	if _, err := x.server.store.Connection(x.ctx, store.Warehouses, x.warehouse); problem.Is(err, problem.NotFound) {
		return false, x.fatal("3D000", asking.NotAllowed(token.Name, x.warehouse).Error())
	}
	of, err := x.server.asking.Told(x.ctx, x.warehouse)
	if err != nil {
		return false, x.fatal("08006", problem.Of(err).Error())
	}
	maps.Copy(x.told, of)
	if err := x.server.store.NoteUse(x.ctx, token); err != nil {
		return false, errors.Join(err, x.fatal("58000", "The service's records do not answer; try again in a while."))
	}
	if !x.server.add(x) {
		return false, x.fatal("53300", "There are too many sessions; close some and connect again.")
	}
	x.backend.Send(&pgproto3.AuthenticationOk{})
	for _, name := range slices.Sorted(maps.Keys(x.told)) {
		if name != "server_version_num" { // which servers do not report
			x.backend.Send(&pgproto3.ParameterStatus{Name: name, Value: x.told[name]})
		}
	}
	x.backend.Send(&pgproto3.ParameterStatus{Name: "session_authorization", Value: user})
	x.backend.Send(&pgproto3.ParameterStatus{Name: "application_name", Value: x.settings["application_name"]})
	x.backend.Send(&pgproto3.BackendKeyData{ProcessID: x.number, SecretKey: x.key})
	return true, x.ready()
}

// told is what clients learn at the beginning. The version says which form of the protocol and of the catalogue there
// is.
var told = map[string]string{"server_version": "16.0 (Noemata)", "server_version_num": "160000",
	"server_encoding": "UTF8", "client_encoding": "UTF8",
	"DateStyle": "ISO, YMD", "IntervalStyle": "postgres", "TimeZone": "UTC", "integer_datetimes": "on",
	"standard_conforming_strings": "on", "is_superuser": "off", "default_transaction_read_only": "on",
	"in_hot_standby": "off"}

// startup reads what comes before the sign-in; nil where there is none.
func (x *session) startup() (*pgproto3.StartupMessage, error) {
	for range 3 { // TLS and GSS may be asked for before
		message, err := x.backend.ReceiveStartupMessage()
		if err != nil {
			return nil, errGone
		}
		switch m := message.(type) {
		case *pgproto3.StartupMessage:
			if m.Parameters["replication"] != "" && m.Parameters["replication"] != "false" {
				return nil, x.fatal("0A000", "Nothing is replicated through this port.")
			}
			if m.Parameters["user"] == "" {
				return nil, x.fatal("28000", "Say who you are: the name of a person or a token is the user.")
			}
			return m, nil
		case *pgproto3.CancelRequest:
			x.server.cancel(m.ProcessID, m.SecretKey)
			return nil, nil
		case *pgproto3.SSLRequest:
			if x.server.tls == nil {
				_, err = x.conn.Write([]byte{'N'})
				break
			}
			if _, err = x.conn.Write([]byte{'S'}); err == nil {
				secure := tls.Server(x.conn, x.server.tls)
				if err = secure.HandshakeContext(x.ctx); err != nil {
					return nil, errGone
				}
				x.conn, x.backend = secure, pgproto3.NewBackend(secure, secure)
			}
		default: // GSS
			_, err = x.conn.Write([]byte{'N'})
		}
		if err != nil {
			return nil, errGone
		}
	}
	return nil, errGone
}

// signIn has the client show that it knows the secret of the name, without telling it (RFC 5802, 7677; PostgreSQL,
// SASL Authentication).
func (x *session) signIn(user string) (token records.Token, ok bool, err error) {
	if x.server.tooMany(x.address) {
		return token, false, x.fatal("28000", "Too many sign-ins from your address failed. Wait a minute and try again.")
	}
	token, verifier, err := x.server.store.VerifierOf(x.ctx, user)
	if err != nil {
		return token, false, errors.Join(err, x.fatal("58000", "The service's records do not answer; try again in a while."))
	}
	known := verifier.StoredKey != nil
	scramServer, err := scram.SHA256.NewServer(func(string) (scram.StoredCredentials, error) {
		if !known { // it takes as long, and fails at the end
			verifier.StoredKey, verifier.ServerKey = make([]byte, 32), make([]byte, 32)
		}
		return scram.StoredCredentials{KeyFactors: scram.KeyFactors{Salt: string(verifier.Salt), Iters: store.VerifierRounds},
			StoredKey: verifier.StoredKey, ServerKey: verifier.ServerKey}, nil
	})
	if err != nil {
		return token, false, err
	}
	talk := scramServer.NewConversation()
	x.backend.Send(&pgproto3.AuthenticationSASL{AuthMechanisms: []string{"SCRAM-SHA-256"}})
	if err := x.backend.Flush(); err != nil {
		return token, false, errGone
	}
	if err := x.backend.SetAuthType(pgproto3.AuthTypeSASL); err != nil {
		return token, false, err
	}
	first, ok := receive[*pgproto3.SASLInitialResponse](x)
	if !ok || first.AuthMechanism != "SCRAM-SHA-256" {
		return token, false, x.refuseSignIn(user)
	}
	answer, err := talk.Step(string(first.Data))
	if err != nil {
		return token, false, x.refuseSignIn(user)
	}
	x.backend.Send(&pgproto3.AuthenticationSASLContinue{Data: []byte(answer)})
	if err := x.backend.Flush(); err != nil {
		return token, false, errGone
	}
	if err := x.backend.SetAuthType(pgproto3.AuthTypeSASLContinue); err != nil {
		return token, false, err
	}
	final, ok := receive[*pgproto3.SASLResponse](x)
	if !ok {
		return token, false, x.refuseSignIn(user)
	}
	answer, err = talk.Step(string(final.Data))
	if err != nil || !talk.Valid() || !known {
		return token, false, x.refuseSignIn(user)
	}
	x.backend.Send(&pgproto3.AuthenticationSASLFinal{Data: []byte(answer)})
	return token, true, nil
}

func receive[M pgproto3.FrontendMessage](x *session) (m M, ok bool) {
	message, err := x.backend.Receive()
	if err != nil {
		return m, false
	}
	m, ok = message.(M)
	return m, ok
}

// refuseSignIn refuses somebody, notes it, and does not say which of name and secret is wrong.
func (x *session) refuseSignIn(user string) error {
	x.server.failed(x.address)
	if err := x.server.store.NoteChange(x.ctx, records.ChangeMade{By: user, Address: x.address,
		Operation: "sign-in-to-ask",
		About:     "warehouse " + x.warehouse, Status: http.StatusUnauthorized}, 0); err != nil {
		return errors.Join(err, x.fatal("28P01", "Name and password do not belong together."))
	}
	return x.fatal("28P01", "Name and password do not belong together. The user is the name of a person, or of a "+
		"token whose "+
		"password is the token itself, from noe_ on. One that was made by an earlier version signs in to the console "+
		"once before.")
}

// fatal tells an error that ends the connection.
func (x *session) fatal(state, message string) error {
	x.backend.Send(&pgproto3.ErrorResponse{Severity: "FATAL", SeverityUnlocalized: "FATAL", Code: state, Message: message})
	if err := x.backend.Flush(); err != nil {
		return errGone
	}
	// What the client has sent is taken in, so that it reads why before it hears that the connection is over.
	if half, ok := x.conn.(interface{ CloseWrite() error }); ok {
		_ = half.CloseWrite()
		_ = x.conn.SetReadDeadline(time.Now().Add(time.Second))
		_, _ = io.Copy(io.Discard, io.LimitReader(x.conn, messageAtMost))
	}
	return errGone
}
