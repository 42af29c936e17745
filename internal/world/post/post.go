package post

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"vaiven/internal/core/notice"
	"vaiven/internal/core/plan"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/trust"
)

// ErrRefused is what the receiver's side says for good: to try again is of no use.
var ErrRefused = errors.New("refused for good")

// Post delivers notices of a plan. Many may use it at the same time.
type Post struct {
	Mail    plan.MailServer
	Secrets secret.Values
}

// Send delivers a message to a receiver, or fails within the context's time. The error wraps [ErrRefused] where it was
// refused for good, and holds no secret.
func (p Post) Send(ctx context.Context, to plan.Receiver, m notice.Message) error {
	var err error
	switch to.Way {
	case plan.ByMail:
		err = p.mail(ctx, to, m)
	case plan.ByWebhook:
		err = p.webhook(ctx, to, m)
	default:
		err = p.command(ctx, to, m)
	}
	if err != nil && ctx.Err() != nil {
		err = errors.New("no answer in time")
	}
	return p.Secrets.Error(err)
}

func (p Post) mail(ctx context.Context, to plan.Receiver, m notice.Message) error {
	host, port, err := net.SplitHostPort(p.Mail.Server)
	if err != nil {
		return err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return err
	}
	options := []mail.Option{mail.WithPort(number), mail.WithTimeout(sendLimit)}
	if p.Mail.TLS == plan.MailPlain {
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	} else {
		name := p.Mail.Trust.Name
		if name == "" {
			name = host
		}
		config, err := trust.Files{CA: p.Mail.Trust.CA}.Config(ctx, place.Local{}, name)
		if err != nil {
			return err
		}
		options = append(options, mail.WithTLSConfig(config))
		if p.Mail.TLS == plan.MailTLSOnly {
			options = append(options, mail.WithSSL())
		} else {
			options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
		}
	}
	if p.Mail.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(p.Mail.User),
			mail.WithPassword(p.Secrets.Fill(p.Mail.Password, nil, nil)))
	}
	client, err := mail.NewClient(host, options...)
	if err != nil {
		return err
	}
	letter := mail.NewMsg()
	if err := errors.Join(letter.FromFormat("Vaiven", p.Mail.From), letter.To(to.Address)); err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	letter.Subject(oneLine(m.Subject))
	letter.SetDateWithValue(m.At)
	// The same however often it is sent: mail programs show it once.
	letter.SetMessageIDWithValue(m.ID + "@" + m.Host)
	letter.SetGenHeader("Auto-Submitted", "auto-generated")
	letter.SetBodyString(mail.TypeTextPlain, Text(m))
	err = client.DialAndSendWithContext(ctx, letter)
	var refused *mail.SendError
	if errors.As(err, &refused) && refused.ErrorCode() >= 500 {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	return err
}

// sendLimit is how long one command of a mail server may take.
const sendLimit = 20 * time.Second

// oneLine is a text without line breaks.
func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// Text is a message as people read it.
func Text(m notice.Message) string {
	var b strings.Builder
	for _, line := range m.Happened {
		b.WriteString(line + "\n")
	}
	fmt.Fprintf(&b, "\nFor users: %s\nNow:       %s\n", m.Users, oneLine(m.Stands))
	if len(m.Do) > 0 {
		fmt.Fprintf(&b, "\nOn %s:\n", m.Host)
		for _, line := range m.Do {
			b.WriteString("  " + line + "\n")
		}
	}
	if m.Digest != "" {
		fmt.Fprintf(&b, "\nFor the record: %s\n", m.Digest)
	}
	if m.Link != "" {
		fmt.Fprintf(&b, "\nOr answer here, until %s:\n  %s\nThe page shows the question; only its button answers it.\n",
			m.Until.Local().Format("15:04 MST"), m.Link)
	}
	if m.Token != "" {
		fmt.Fprintf(&b, "\nFrom anywhere that reaches the keeper:\n  vaiven say %s yes --token %s\n", m.Plan, m.Token)
	}
	if m.Token != "" {
		b.WriteString("\nWhoever has this notice can answer in your name: do not pass it on.\n")
	}
	return b.String()
}

// event is a CloudEvents 1.0 event in its JSON format.
type event struct {
	SpecVersion string         `json:"specversion"`
	ID          string         `json:"id"`
	Source      string         `json:"source"`
	Type        string         `json:"type"`
	Subject     string         `json:"subject,omitempty"`
	Time        time.Time      `json:"time"`
	ContentType string         `json:"datacontenttype"`
	Data        notice.Message `json:"data"`
}

// Event is a message as a CloudEvents 1.0 event in JSON.
func Event(m notice.Message) ([]byte, error) {
	e := event{SpecVersion: "1.0", ID: m.ID, Source: "//" + m.Host + "/" + url.PathEscape(m.Service),
		Type: "vaiven.notice." + strings.ReplaceAll(string(m.About), " ", "-"), Time: m.At, ContentType: "application/json",
		Data: m}
	if m.Crossing > 0 {
		e.Subject = "crossing " + strconv.Itoa(m.Crossing)
	}
	return json.Marshal(e)
}

// The headers of a webhook.
const (
	TimeHeader      = "Vaiven-Time"      // when it was sent: seconds since 1970
	SignatureHeader = "Vaiven-Signature" // see [Sign]
)

// Sign is the signature of a webhook's body: "sha256=" and, in hexadecimal, the HMAC-SHA256 under the key of the time
// as in its header, a dot and the body. Who looks at the time as well takes no old one for new.
func Sign(key string, at string, body []byte) string {
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write([]byte(at + "."))
	mac.Write(body)
	return "sha256=" + hex.EncodeToString(mac.Sum(nil))
}

func (p Post) webhook(ctx context.Context, to plan.Receiver, m notice.Message) error {
	body, err := Event(m)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, p.Secrets.Fill(to.Address, nil, secret.InURL),
		bytes.NewReader(body))
	if err != nil {
		return errors.New("its address cannot be read")
	}
	at := strconv.FormatInt(time.Now().Unix(), 10)
	r.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	r.Header.Set("User-Agent", "vaiven")
	r.Header.Set(TimeHeader, at)
	if to.Key != "" {
		r.Header.Set(SignatureHeader, Sign(p.Secrets.Fill(to.Key, nil, nil), at, body))
	}
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	w, err := client.Do(r)
	if err != nil {
		var of *url.Error
		if errors.As(err, &of) {
			err = of.Err // its address may hold a secret
		}
		return err
	}
	defer w.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(w.Body, 512))
	switch {
	case w.StatusCode/100 == 2:
		return nil
	case w.StatusCode == http.StatusGone:
		return fmt.Errorf("%w: status %d", ErrRefused, w.StatusCode)
	}
	return fmt.Errorf("status %d %s", w.StatusCode, oneLine(string(said)))
}

func (p Post) command(ctx context.Context, to plan.Receiver, m notice.Message) error {
	body, err := Event(m)
	if err != nil {
		return err
	}
	cmd := place.Program(ctx, to.Words...)
	cmd.Env = append(os.Environ(), "VAIVEN_SERVICE="+m.Service, "VAIVEN_ABOUT="+string(m.About),
		"VAIVEN_SUBJECT="+m.Subject, "VAIVEN_CROSSING="+strconv.Itoa(m.Crossing))
	cmd.Stdin = bytes.NewReader(body)
	var said place.Output
	cmd.Stdout, cmd.Stderr = &said, &said
	err = cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return fmt.Errorf("exit status %d: %s", exit.ExitCode(), oneLine(string(said.Bytes()[:min(len(said.Bytes()), 512)])))
	}
	return err
}
