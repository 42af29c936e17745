package check

import (
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"syscall"
	"time"

	"vaiven/internal/world/place"
)

// Words is an error as an operator would say it. A wrong credential, a refused
// connection, a name that does not resolve and a time-out are told apart.
func Words(err error) string {
	var unknown x509.UnknownAuthorityError
	var invalid x509.CertificateInvalidError
	var name x509.HostnameError
	var dns *net.DNSError
	switch {
	case errors.Is(err, errDenied):
		return err.Error()
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired && time.Now().After(invalid.Cert.NotAfter):
		return "a certificate that expired on " + day(invalid.Cert.NotAfter)
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return "a certificate that is valid only from " + day(invalid.Cert.NotBefore)
	case errors.As(err, &unknown):
		return "a certificate of an unknown authority"
	case errors.As(err, &name):
		return "a certificate for " + strings.Join(names(name.Certificate), ", ")
	case errors.Is(err, place.ErrCannot):
		return err.Error()
	}
	switch place.CauseOf(err) {
	case place.NoName:
		if errors.As(err, &dns) {
			return "no such name: " + dns.Name
		}
	case place.Refused:
		return "connection refused"
	case place.Unreachable:
		return "no route to it"
	case place.TimeOut:
		return "no answer in time"
	}
	if errors.Is(err, syscall.ECONNRESET) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return "connection closed without an answer"
	}
	return err.Error()
}

func day(t time.Time) string { return t.Format("2006-01-02") }

// names are what a certificate is for.
func names(c *x509.Certificate) []string {
	list := append([]string(nil), c.DNSNames...)
	for _, ip := range c.IPAddresses {
		list = append(list, ip.String())
	}
	if len(list) == 0 {
		list = []string{"nobody (" + c.Subject.String() + ")"}
	}
	return list
}

// Excerpt is the beginning of a body on one line.
func Excerpt(body []byte) string {
	const most = 120
	text := strings.Join(strings.Fields(strings.ToValidUTF8(string(body), "?")), " ")
	if runes := []rune(text); len(runes) > most {
		text = string(runes[:most]) + "…"
	}
	return text
}

// excerpt is that in quotes, without what is to be hidden.
func excerpt(body []byte, hide func(string) string) string {
	return strconv.Quote(Excerpt([]byte(hide(string(body)))))
}

// days is a time to come in whole days.
func days(d time.Duration) string {
	n := int(d.Hours() / 24)
	if n == 1 {
		return "1 day"
	}
	return fmt.Sprintf("%d days", n)
}
