package dns

import (
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"text/template"

	"github.com/miekg/dns"

	"vaiven/internal/core/plan"
	"vaiven/internal/front"
)

// zone is what BIND's configuration has to say of the zone.
const zone = `include "{{.Key}}";    # tsig-keygen {{.KeyName}} > {{.Key}}
zone "{{.Zone}}" {
    type primary;
    file "{{.File}}";
    update-policy {
{{- range .Names}}
        grant {{$.KeyName}} name {{.}} ANY;
{{- end}}
    };
};
`

// whole is a configuration of its own, which answers on one address alone.
const whole = `options {
    directory "{{.Folder}}";
    listen-on port {{.Port}} { {{.Host}}; };
    listen-on-v6 { none; };
    pid-file "{{.Folder}}/named.pid";
    session-keyfile "{{.Folder}}/session.key";
    recursion no;
    dnssec-validation no;
    notify no;
    empty-zones-enable no;
};
controls { };
`

var (
	zoneTemplate = template.Must(template.New("zone").Parse(zone))
	fullTemplate = template.Must(template.New("whole").Parse(whole + zone))
)

// config is BIND's part of it: the zone, with what the key may change.
func config(_ string, f plan.Front, at front.Site) front.Config {
	s := f.Settings.(*Settings)
	values := struct {
		Key, KeyName, Zone, File, Folder, Host, Port string
		Names                                        []string
	}{
		Key: s.Key, KeyName: "vaiven", Zone: strings.TrimSuffix(s.Zone, "."),
		File: strings.TrimSuffix(s.Zone, ".") + ".zone", Names: s.names(), Folder: at.Folder,
	}
	if at.Folder == "" {
		return at.Config(zoneTemplate, values, "")
	}
	values.Host, values.Port, _ = net.SplitHostPort(s.Server)
	values.File = filepath.Join(at.Folder, values.File)
	c := at.Config(fullTemplate, values, "named.conf", "-g", "-4", "-n", "1", "-c")
	secret := make([]byte, 32)
	_, _ = rand.Read(secret) // never fails
	c.Beside = map[string]string{
		s.Key: fmt.Sprintf("key \"vaiven\" {\n\talgorithm hmac-sha256;\n\tsecret \"%s\";\n};\n",
			base64.StdEncoding.EncodeToString(secret)),
		values.File: fmt.Sprintf("$TTL 60\n@ SOA ns hostmaster 1 3600 600 86400 1\n@ NS ns\nns A %s\n", values.Host),
	}
	return c
}

// names are all that updates change.
func (s *Settings) names() []string {
	list := []string{s.Name, s.noteName(), s.sidesName()}
	for _, name := range append([]string{s.Spare}, s.Targets[:]...) {
		if dns.IsSubDomain(s.Zone, name) {
			list = append(list, name)
		}
	}
	for n := range list {
		list[n] = strings.TrimSuffix(list[n], ".")
	}
	return list
}
