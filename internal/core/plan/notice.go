package plan

import (
	"slices"
	"strings"
	"time"
)

// Notices is who is told what. The zero value tells nobody.
type Notices struct {
	Rules   []Notice
	Mail    MailServer
	Answers Answers
}

// On reports whether anybody is told anything.
func (n Notices) On() bool { return len(n.Rules) > 0 }

// MailServer is who takes mail.
type MailServer struct {
	Server         string // host:port
	From           string // the sender's address
	User, Password string // "" for none; the password with placeholders for secrets
	TLS            MailTLS
	Trust          Trust
}

// MailTLS is how mail is encrypted on its way to the server.
type MailTLS string

// The choices.
const (
	MailStartTLS MailTLS = "starttls" // from the first command that matters on
	MailTLSOnly  MailTLS = "tls"      // from the beginning
	MailPlain    MailTLS = "none"
)

// Answers is how the question of a notice can be answered. Without a URL it has no link.
type Answers struct {
	Listen      string // host:port that the keeper listens at, "" for nowhere
	URL         string // by which people reach that
	Certificate string // file; "" for no TLS, as behind a proxy that has it
	Key         string
	For         time.Duration // an answer is taken for so long
}

// About is what a notice is about.
type About string

// What people can be told.
const (
	AboutAsks       About = "asks"        // a person is asked something
	AboutFreezes    About = "freezes"     // the route stands still
	AboutTrips      About = "trips"       // a guard has tripped
	AboutRolledBack About = "rolled back" // all requests are home
	AboutSettled    About = "settled"
	AboutCalledOff  About = "called off"
	AboutWayBack    About = "way back" // it narrows, closes, or opens again
	AboutHole       About = "hole"     // a keeper is back after a time in which nobody watched
	AboutIll        About = "ill"      // a side that gets requests does not serve, with no crossing
	AboutRetirement About = "retirement"
	AboutExpires    About = "expires" // a certificate or a secret does

	// Of these nobody is told who does not ask for them: they are for dashboards.
	AboutBegins About = "begins" // a crossing does
	AboutMoves  About = "moves"  // another share is in force
)

// Abouts are all of them, in the order in which people are shown them.
var Abouts = []About{AboutAsks, AboutFreezes, AboutTrips, AboutRolledBack, AboutSettled, AboutCalledOff, AboutWayBack,
	AboutHole, AboutIll, AboutRetirement, AboutExpires, AboutBegins, AboutMoves}

// AboutUsually is what a rule is about that does not say so.
var AboutUsually = Abouts[:len(Abouts)-2]

// Way is how somebody is told.
type Way string

// The ways.
const (
	ByMail    Way = "mail"
	ByWebhook Way = "webhook"
	ByCommand Way = "command"
)

// Receiver is who is told, and how.
type Receiver struct {
	Way     Way
	Address string   // of mail, or of a webhook, with placeholders for secrets
	As      string   // the user of the keeper's machine who that is, "" if the plan does not say
	Key     string   // of a webhook: what its body is signed with, with placeholders for secrets; "" for no signature
	Words   []string // of a command
}

// String is how the logbook and people call a receiver.
func (r Receiver) String() string {
	if r.Way == ByCommand {
		return strings.Join(r.Words, " ")
	}
	return r.Address
}

// Who tells a receiver from all others.
func (r Receiver) Who() string { return string(r.Way) + " " + r.String() }

// Notice is a rule: who is told of what.
type Notice struct {
	To    []Receiver
	About []About       // [AboutUsually] where there is none
	Most  int           // so many of one kind to a receiver,
	In    time.Duration // in this time; more are held back, and told together at its end. 0 for no limit
	After time.Duration // where a question waits for so long, 0 for never,
	Also  []Receiver    // these are told as well
}

// Hears reports whether a rule is about something.
func (n Notice) Hears(a About) bool {
	return len(n.About) == 0 && slices.Contains(AboutUsually, a) || slices.Contains(n.About, a)
}
