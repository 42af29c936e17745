package planfile

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/plan"
)

// Every key of notices is read.
func TestNotices(t *testing.T) {
	p, err := Read("testdata/notices.yaml")
	if err != nil {
		t.Fatal(err)
	}
	dir := strings.TrimSuffix(p.File, "notices.yaml")
	want := plan.Notices{
		Mail: plan.MailServer{Server: "mail.example:587", From: "vaiven@linea-vessa.example", User: "vaiven",
			Password: "{secret mail}", TLS: plan.MailTLSOnly, Trust: plan.Trust{CA: dir + "internal.pem",
				Name: "mail.internal"}},
		Answers: plan.Answers{Listen: "127.0.0.1:8490", URL: "https://vaiven.linea-vessa.example",
			Certificate: dir + "a.pem", Key: dir + "a.key", For: 30 * time.Minute},
		Rules: []plan.Notice{
			{To: []plan.Receiver{{Way: plan.ByMail, Address: "marit@linea-vessa.example", As: "marit"},
				{Way: plan.ByMail, Address: "board@linea-vessa.example"}},
				About: []plan.About{plan.AboutAsks, plan.AboutRolledBack, plan.AboutWayBack}, Most: 1,
				In:    5 * time.Minute,
				After: 10 * time.Minute,
				Also:  []plan.Receiver{{Way: plan.ByMail, Address: "ines@linea-vessa.example", As: "ines"}}},
			{To: []plan.Receiver{{Way: plan.ByWebhook, Address: "https://hooks.example/sailings", Key: "{secret hook}"}}},
			{To: []plan.Receiver{{Way: plan.ByCommand, Words: []string{dir + "tell", "--loud"}}}},
		},
	}
	if p.Metrics != "127.0.0.1:9411" {
		t.Errorf("the page of figures is at %q", p.Metrics)
	}
	if !reflect.DeepEqual(p.Notices, want) {
		t.Errorf("the notices are\n%+v, not\n%+v", p.Notices, want)
	}
}

// What cannot be is said where it stands, with what would be right.
func TestNoticesThatCannotBe(t *testing.T) {
	const before = "service: sailings\nversions: folder builds\nstack: {instances: 2, command: ./s, build: b, " +
		"ports: 18100-18199}\nfront: {listen: 127.0.0.1:18080}\nsmoke: [{request: /}]\nroute: [100 %]\n"
	const mail = "mail: {server: 'm:25', from: v@l.example}, "
	for text, want := range map[string]string{
		"tell: [{to: [m@l.example]}]":                                                                               "which server takes mail",
		mail + "tell: [{about: [asks]}]":                                                                            "nobody is told",
		mail + "tell: [{to: [marit]}]":                                                                              "no mail address",
		mail + "tell: [{to: [m@l.example], about: [tripps]}]":                                                       `"trips"`,
		mail + "tell: [{to: [m@l.example], at-most: often}]":                                                        "1 in 5m",
		mail + "tell: [{to: [m@l.example], after: {10m: [marit]}}]":                                                 "no mail address",
		mail + "tell: [{to: [m@l.example], about: [ill], after: {1m: [m@l.example]}}]":                              "waits for an answer",
		mail + "tell: [{to: [m@l.example], signed: '{secret k}'}]":                                                  "only a webhook is signed",
		"tell: [{webhook: 'hooks.example'}]":                                                                        "no address of a page",
		"tell: [{webhook: 'https://h.example', signed: hunter2}]":                                                   "for all to read",
		"answers: {listen: '127.0.0.1:1'}, tell: [{webhook: 'https://h.example'}]":                                  "url",
		"mail: {server: 'm:25', from: v@l.example, user: v, password: '{secret k}', tls: none}, tell: [{run: ./t}]": "for all to read",
		mail: `needs "tell"`,
	} {
		_, err := Parse("p.yaml", []byte(before+"notices: {"+text+"}\n"))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s\nsays %v\nnot %q", text, err, want)
		}
		if err != nil && strings.Contains(err.Error(), "hunter2") {
			t.Errorf("a key is shown: %v", err)
		}
	}
}
