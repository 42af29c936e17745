package planfile

import (
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/people"
	"vaiven/internal/core/plan"
	"vaiven/internal/world/section"
)

// notices reads who is told what.
func (r *reader) notices(n ast.Node, p *plan.Notices) {
	var answers ast.Node
	r.Mapping(n, "notices",
		section.May("mail", func(n ast.Node) { r.mailServer(n, &p.Mail) }),
		section.May("answers", func(n ast.Node) {
			answers = n
			r.answersAt(n, &p.Answers)
		}),
		section.Need("tell", func(n ast.Node) {
			r.List(n, "tell", func(n ast.Node) {
				var rule plan.Notice
				r.notice(n, &rule)
				p.Rules = append(p.Rules, rule)
			})
		}))
	if r.Discovering() {
		return
	}
	mails := slices.ContainsFunc(p.Rules, func(rule plan.Notice) bool {
		return slices.ContainsFunc(slices.Concat(rule.To, rule.Also),
			func(to plan.Receiver) bool { return to.Way == plan.ByMail })
	})
	if mails && p.Mail.Server == "" {
		r.Wrong(n, "it is not said which server takes mail", `add "mail: {server: HOST:587, from: ADDRESS}"`)
	}
	if answers != nil && p.Answers.URL == "" {
		r.Wrong(answers, "it is not said by which address people reach it", `add "url: https://..."`)
	}
}

func (r *reader) mailServer(n ast.Node, m *plan.MailServer) {
	m.TLS = plan.MailStartTLS
	keys := []section.Key{
		section.Need("server", section.Parsed(r.Reader, "server", &m.Server, section.HostPort)),
		section.Need("from", section.Parsed(r.Reader, "from", &m.From, mailAddress)),
		section.May("user", func(n ast.Node) { r.Text(n, "user", &m.User) }),
		section.May("password", func(n ast.Node) { r.hidden(n, "password", &m.Password) }),
		section.May("tls", section.Parsed(r.Reader, "tls", &m.TLS, func(text string) (plan.MailTLS, error) {
			return section.OneOf(text, plan.MailStartTLS, plan.MailTLSOnly, plan.MailPlain)
		})),
	}
	r.Mapping(n, "mail", append(keys, r.trustKeys(&m.Trust)...)...)
	r.login(n, m.User, m.Password)
	if m.User != "" && m.TLS == plan.MailPlain {
		r.Wrong(n, "the password would go over the network for all to read", `leave "tls: none" out`)
	}
}

func mailAddress(text string) (string, error) {
	a, err := mail.ParseAddress(text)
	if err != nil || a.Name != "" {
		return "", section.Mistake{What: fmt.Sprintf("%q is no mail address", text), Try: "such as marit@linea-vessa.example"}
	}
	return a.Address, nil
}

func (r *reader) answersAt(n ast.Node, a *plan.Answers) {
	a.For = 2 * time.Hour
	r.Mapping(n, "answers",
		section.May("listen", section.Parsed(r.Reader, "listen", &a.Listen, section.HostPort)),
		section.Need("url", section.Parsed(r.Reader, "url", &a.URL, webAddress)),
		section.May("certificate", func(n ast.Node) { r.Text(n, "certificate", &a.Certificate) }),
		section.May("key", func(n ast.Node) { r.Text(n, "key", &a.Key) }),
		section.May("for", section.Parsed(r.Reader, "for", &a.For, section.Duration)))
	if (a.Certificate == "") != (a.Key == "") {
		r.Wrong(n, "a certificate needs its key, and a key its certificate", `add "certificate: FILE" and "key: FILE"`)
	}
}

// webAddress reads the address of a web page without a name and a password.
func webAddress(text string) (string, error) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
		return "", section.Mistake{What: fmt.Sprintf("%q is no address of a page", text),
			Try: "such as https://vaiven.linea-vessa.example"}
	}
	return strings.TrimSuffix(text, "/"), nil
}

func (r *reader) notice(n ast.Node, rule *plan.Notice) {
	var key, hook string
	var words []string
	var keyAt ast.Node
	late := func(n ast.Node) {
		entries, ok := r.Entries(n, "after")
		if r.Discovering() {
			r.Names(n, func(n ast.Node) { r.receivers(n, &rule.Also) })
			return
		}
		if !ok || len(entries) != 1 {
			r.Wrong(n, "after has one time, and whom else to tell then", "such as {10m: [ines@linea-vessa.example as ines]}")
			return
		}
		section.Parsed(r.Reader, "after", &rule.After, section.Duration)(entries[0].Key)
		r.receivers(entries[0].Value, &rule.Also)
	}
	r.Mapping(n, "tell",
		section.May("to", func(n ast.Node) { r.receivers(n, &rule.To) }),
		section.May("webhook", func(n ast.Node) {
			if r.Text(n, "webhook", &hook) {
				r.uses(n, hook)
				r.webhook(n, hook)
			}
		}),
		section.May("signed", func(n ast.Node) {
			keyAt = n
			r.hidden(n, "signed", &key)
		}),
		section.May("run", func(n ast.Node) {
			if r.hookWords(n, &words); len(words) > 0 {
				r.commandAt[words[0]] = n
			}
		}),
		section.May("about", func(n ast.Node) {
			r.List(n, "about", func(n ast.Node) {
				var about plan.About
				section.Parsed(r.Reader, "about", &about, func(text string) (plan.About, error) {
					return section.OneOf(text, plan.Abouts...)
				})(n)
				rule.About = append(rule.About, about)
			})
		}),
		section.May("at-most", func(n ast.Node) {
			var limit atMost
			section.Parsed(r.Reader, "at-most", &limit, atMostOf)(n)
			rule.Most, rule.In = limit.most, limit.in
		}),
		section.May("after", late))
	if r.Discovering() {
		return
	}
	if hook != "" {
		rule.To = append(rule.To, plan.Receiver{Way: plan.ByWebhook, Address: hook, Key: key})
	}
	if len(words) > 0 {
		rule.To = append(rule.To, plan.Receiver{Way: plan.ByCommand, Words: words})
	}
	switch {
	case len(rule.To) == 0:
		r.Wrong(n, "nobody is told", `add "to: [ADDRESS]", "webhook: URL" or "run: COMMAND"`)
	case keyAt != nil && hook == "":
		r.Wrong(keyAt, "only a webhook is signed", `add "webhook: URL", or leave it out`)
	case rule.After > 0 && !rule.Hears(plan.AboutAsks):
		r.Wrong(n, "only a question waits for an answer", `add asks to "about", or leave "after" out`)
	}
}

func (r *reader) webhook(n ast.Node, text string) {
	if _, err := webAddress(secretPlaceholder.ReplaceAllString(text, "x")); err != nil {
		r.Refuse(n, err)
	}
}

// receivers reads mail addresses, each with the user that it belongs to.
func (r *reader) receivers(n ast.Node, to *[]plan.Receiver) {
	r.List(n, "to", func(n ast.Node) {
		var one plan.Receiver
		section.Parsed(r.Reader, "to", &one, func(text string) (plan.Receiver, error) {
			address, user, _ := strings.Cut(text, " as ")
			one := plan.Receiver{Way: plan.ByMail}
			var err error
			if one.Address, err = mailAddress(strings.TrimSpace(address)); err == nil && user != "" {
				one.As, err = people.ParseMember(strings.TrimSpace(user))
			}
			return one, err
		})(n)
		*to = append(*to, one)
	})
}

// atMost is how many in which time.
type atMost struct {
	most int
	in   time.Duration
}

// atMostOf reads "1 in 5m".
func atMostOf(text string) (l atMost, err error) {
	number, in, ok := strings.Cut(text, " in ")
	if l.most, err = section.Between(1, 1000)(strings.TrimSpace(number)); err == nil && ok {
		l.in, err = section.Duration(strings.TrimSpace(in))
	}
	if err != nil || !ok {
		return l, section.Mistake{What: fmt.Sprintf("%q is no limit", text), Try: `such as "1 in 5m"`}
	}
	return l, nil
}
