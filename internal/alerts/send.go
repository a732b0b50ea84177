package alerts

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"noemata/internal/core/problem"
	"noemata/internal/records"
)

// Message is what a channel is told at once: alerts of one kind and feed.
type Message struct {
	Over   bool            `json:"over"` // they have ended
	Test   bool            `json:"test,omitempty"`
	Kind   string          `json:"kind"`
	Feed   string          `json:"feed,omitempty"`
	Alerts []records.Alert `json:"alerts"`
}

// Headers of a webhook's request. The signature is the HMAC-SHA256, in hexadecimal digits, of the time, a full stop
// and the body; the time is in seconds since 1970.
const (
	timeHeader      = "Noemata-Time"
	signatureHeader = "Noemata-Signature"
)

// sendWithin is how long a message may take to go out.
const sendWithin = 15 * time.Second

// Send sends a message by a channel.
func Send(ctx context.Context, c records.Channel, m Message) error {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	var err error
	if c.Way == "webhook" {
		err = post(ctx, c, m)
	} else {
		err = deliver(ctx, c, m)
	}
	if err != nil {
		return problem.Wrap(err, problem.Failed, fmt.Sprintf("The channel %s did not take a message: %v.", c.Name, err),
			"Correct it: noemata channels change "+c.Name+", and try it: noemata channels test "+c.Name+".")
	}
	return nil
}

// client follows no redirect: what is signed for one address is sent to no other.
var client = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

func post(ctx context.Context, c records.Channel, m Message) error {
	content, _ := json.Marshal(m) // our own types always marshal
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, c.URL, bytes.NewReader(content))
	if err != nil {
		return err
	}
	at := strconv.FormatInt(time.Now().Unix(), 10)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set(timeHeader, at)
	if c.Secret != "" {
		sum := hmac.New(sha256.New, []byte(c.Secret))
		sum.Write([]byte(at + "."))
		sum.Write(content)
		r.Header.Set(signatureHeader, hex.EncodeToString(sum.Sum(nil)))
	}
	answer, err := client.Do(r)
	if err != nil {
		return err
	}
	defer func() { _ = answer.Body.Close() }()
	_, _ = io.CopyN(io.Discard, answer.Body, 64<<10)
	if answer.StatusCode >= 300 {
		return fmt.Errorf("it answered %s", answer.Status)
	}
	return nil
}

func deliver(ctx context.Context, c records.Channel, m Message) error {
	letter := mail.NewMsg()
	if err := letter.From(c.From); err != nil {
		return err
	}
	if err := letter.To(c.To...); err != nil {
		return err
	}
	letter.Subject(m.Title())
	letter.SetBodyString(mail.TypeTextPlain, m.Text())
	options := []mail.Option{mail.WithPort(c.Port), mail.WithTimeout(sendWithin)}
	switch c.TLS {
	case "always":
		options = append(options, mail.WithSSL())
	case "off":
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if c.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(c.User),
			mail.WithPassword(c.Secret))
	}
	server, err := mail.NewClient(c.Host, options...)
	if err != nil {
		return err
	}
	return server.DialAndSendWithContext(ctx, letter)
}

// Title is a message in one line.
func (m Message) Title() string {
	if m.Test {
		return "Noemata: this channel works"
	}
	said := fmt.Sprintf("Noemata: %s %s", m.Feed, so[m.Kind])
	if m.Feed == "" {
		said = fmt.Sprintf("Noemata: %s %s", m.Alerts[0].About, so[m.Kind])
	}
	if n := len(m.Alerts); n > 1 {
		said += fmt.Sprintf(" (%d tables)", n)
	}
	if m.Over {
		said += ": over"
	}
	return said
}

// so is what is so of a feed, or of what is no feed's, by the kind of alert.
var so = map[string]string{records.AlertHeld: "waits for a person", records.AlertFailing: "fails",
	records.AlertUnequal: "was proved not equal", records.AlertLate: "does not run", records.AlertLag: "lags",
	records.AlertLog: "has its source keep much log", records.AlertDisk: "has little room left",
	records.AlertDrift: "has another structure at its source", records.AlertDerived: "was not made as its file has it"}

// mostInText is how many alerts a message writes out.
const mostInText = 20

// Text is a message in sentences.
func (m Message) Text() string {
	if m.Test {
		return "Somebody has tried this channel. Nothing is wrong.\n"
	}
	var b strings.Builder
	for i, a := range m.Alerts {
		if i == mostInText {
			fmt.Fprintf(&b, "and %d more.\n", len(m.Alerts)-i)
			break
		}
		at := a.BeganAt
		if a.About != "" {
			b.WriteString(a.About + ": ")
		}
		b.WriteString(a.What + "\n")
		if a.Remedy != "" && !m.Over {
			b.WriteString("  " + a.Remedy + "\n")
		}
		fmt.Fprintf(&b, "  since %s", at.UTC().Format("2006-01-02 15:04Z"))
		if a.EndedAt != nil {
			fmt.Fprintf(&b, " until %s", a.EndedAt.UTC().Format("2006-01-02 15:04Z"))
		}
		b.WriteString("\n\n")
	}
	return b.String()
}
