package httpd

import (
	"context"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"vaiven/internal/core/plan"
	"vaiven/internal/front"
	"vaiven/internal/front/include"
	"vaiven/internal/front/logged"
	"vaiven/internal/world/place"
)

var (
	surveyPass   = regexp.MustCompile(`(?i)^ProxyPass(?:Match)?\s+"?(\S+?)"?\s+"?balancer://([^/"\s]+)`)
	surveyMember = regexp.MustCompile(`(?i)^BalancerMember\s+"?https?://([^/"\s]+)/?"?(.*)$`)
	surveyListen = regexp.MustCompile(`(?i)^Listen\s+"?(\S+?)"?(?:\s|$)`)
	surveyName   = regexp.MustCompile(`(?i)^ServerName\s+"?(?:https?://)?([^":\s]+)`)
	surveySecure = regexp.MustCompile(`(?i)^SSLEngine\s+on\b`)
	surveyLog    = regexp.MustCompile(`(?i)^CustomLog\s+"?([^"|\s]+)"?\s`)
	surveyBlock  = regexp.MustCompile(`(?i)^<(VirtualHost|Proxy|Location)\s+"?([^">]*?)"?\s*>`)
	surveyHandle = regexp.MustCompile(`(?i)^SetHandler\s+"?balancer-manager`)
)

// host is a virtual host as far as a survey goes by it.
type host struct {
	listen, name, log string
	secure            bool
	balancers         []string
}

// survey reads an httpd by the URL of its balancer manager, or by its configuration.
func survey(ctx context.Context, on place.Machine, target string) ([]front.Surveyed, error) {
	if strings.HasPrefix(target, "http://") || strings.HasPrefix(target, "https://") {
		return surveyManager(ctx, on, target)
	}
	data, err := on.ReadFile(ctx, target)
	if err != nil {
		return nil, err
	}
	if !regexp.MustCompile(`(?mi)^\s*(ServerRoot|<VirtualHost|Listen|Include(Optional)?|LoadModule)\s`).Match(data) {
		return nil, front.ErrNotOurs
	}
	s := &server{on: on, config: include.Settings{Config: target, Program: []string{"apachectl"}}}
	files, _, err := s.Files(ctx)
	if err != nil {
		return nil, fmt.Errorf("httpd does not take its configuration: %w", err)
	}
	var all []front.Surveyed
	var hosts []host
	manager, managerAt := "", ""
	for _, file := range files {
		data, err := on.ReadFile(ctx, file)
		if err != nil {
			return nil, err
		}
		at, balancer, location := host{}, "", ""
		within := false
		for line := range strings.Lines(string(data)) {
			line = strings.TrimSpace(line)
			if m := surveyBlock.FindStringSubmatch(line); m != nil {
				switch strings.ToLower(m[1]) {
				case "virtualhost":
					at, within = host{listen: front.AtPort(strings.Fields(m[2] + " *")[0], "80")}, true
				case "proxy":
					balancer = strings.TrimPrefix(m[2], "balancer://")
					if strings.HasPrefix(m[2], "balancer://") {
						all = append(all, front.Surveyed{Name: balancer})
					}
				case "location":
					location = m[2]
				}
				continue
			}
			switch {
			case strings.EqualFold(line, "</VirtualHost>"):
				hosts, at, within = append(hosts, at), host{}, false
			case strings.EqualFold(line, "</Proxy>"):
				balancer = ""
			case strings.EqualFold(line, "</Location>"):
				location = ""
			case surveyHandle.MatchString(line) && location != "":
				manager, managerAt = location, at.listen
			}
			if m := surveyMember.FindStringSubmatch(line); m != nil && balancer != "" && len(all) > 0 {
				up := &all[len(all)-1]
				route := regexp.MustCompile(`\broute=(\S+)`).FindStringSubmatch(m[2])
				v := front.SurveyedServer{Name: fmt.Sprintf("%s-%d", up.Name, len(up.Servers)+1),
					Address: front.WithPort(m[1]), In: !regexp.MustCompile(`status=\+?[A-Z]*[DSH]`).MatchString(m[2])}
				if route != nil {
					v.Name = route[1]
				}
				up.Servers = append(up.Servers, v)
			}
			if m := surveyPass.FindStringSubmatch(line); m != nil {
				at.balancers = append(at.balancers, m[2])
			}
			if m := surveyName.FindStringSubmatch(line); m != nil && within {
				at.name = m[1]
			}
			if m := surveyLog.FindStringSubmatch(line); m != nil && within && !strings.Contains(m[1], "${") {
				at.log = m[1]
			}
			at.secure = at.secure || within && surveySecure.MatchString(line)
			if m := surveyListen.FindStringSubmatch(line); m != nil && !within && at.listen == "" {
				at.listen = front.AtPort(m[1], "80")
			}
		}
		if !within && len(at.balancers) > 0 {
			hosts = append(hosts, at)
		}
	}
	for n := range all {
		up := &all[n]
		for _, h := range hosts {
			if slices.Contains(h.balancers, up.Name) && up.Listen == "" {
				up.Listen, up.Secure, up.Host, up.Log = h.listen, h.secure, h.name, h.log
			}
		}
		if up.Log != "" {
			up.Requests = logged.Lines(on, up.Log)
		}
		url := ""
		if manager != "" {
			if managerAt == "" {
				managerAt = up.Listen
			}
			url = "http://" + managerAt + manager
		}
		describe(up, target, url)
	}
	return slices.DeleteFunc(all, func(u front.Surveyed) bool { return u.Listen == "" || len(u.Servers) == 0 }), nil
}

// surveyManager reads the balancers of a manager.
func surveyManager(ctx context.Context, on place.Machine, url string) ([]front.Surveyed, error) {
	m := NewManager(on, plan.Front{Settings: &Settings{Manager: url}})
	page, err := m.call(ctx, nil)
	if err != nil {
		return nil, err
	}
	sections := sectionPattern.FindAllStringSubmatch(page, -1)
	if sections == nil {
		return nil, fmt.Errorf("%s is no balancer manager: there is no balancer on its page", url)
	}
	var all []front.Surveyed
	for _, s := range sections {
		b, err := parse(page, s[1])
		if err != nil {
			return nil, err
		}
		up := front.Surveyed{Name: s[1], Requests: m.elected(s[1])}
		for _, w := range b.workers {
			up.Servers = append(up.Servers,
				front.SurveyedServer{Name: w.route, Address: w.address, In: w.state == "on" && w.factor > 0})
		}
		describe(&up, "/etc/apache2/apache2.conf", url)
		all = append(all, up)
	}
	return all, nil
}

var electedPattern = regexp.MustCompile(`<td>(\d+)</td><td>\d+</td><td>-?\d+</td><td>\s*[\d.]+[KMG ]*</td>`)

// elected is how many requests a balancer's workers were chosen for.
func (m *Manager) elected(balancer string) func(context.Context) (int64, error) {
	return func(ctx context.Context) (int64, error) {
		page, err := m.call(ctx, nil)
		if err != nil {
			return 0, err
		}
		sections := sectionPattern.FindAllStringSubmatchIndex(page, -1)
		for n, s := range sections {
			if page[s[2]:s[3]] != balancer {
				continue
			}
			text := page[s[0]:]
			if n+1 < len(sections) {
				text = page[s[0]:sections[n+1][0]]
			}
			sum := int64(0)
			for _, m := range electedPattern.FindAllStringSubmatch(text, -1) {
				var k int64
				_, _ = fmt.Sscan(m[1], &k) // figures
				sum += k
			}
			return sum, nil
		}
		return 0, fmt.Errorf("%s has no balancer %s any more: %d", m.config.Manager, balancer, http.StatusNotFound)
	}
}

// describe says of a balancer how it would be steered.
func describe(up *front.Surveyed, config, manager string) {
	for n := range up.Servers {
		for _, side := range []string{"blue", "green"} {
			if strings.HasPrefix(up.Servers[n].Name, side+"-") {
				up.Servers[n].Side = side
			}
		}
	}
	up.Section = fmt.Sprintf("  httpd:\n    config: %s\n    balancer: %s\n", config, up.Name)
	if manager == "" {
		up.Section += "    include: /etc/apache2/vaiven/SERVICE.conf\n    log: /var/log/apache2/SERVICE.log\n"
		up.Needs = append(up.Needs,
			fmt.Sprintf("the balancer from a file of Vaiven's, which \"vaiven front PLAN\" makes with the members of "+
				"%s as they are: \"Include /etc/apache2/vaiven/SERVICE.conf\" in the place of <Proxy "+
				"balancer://%[1]s> ... </Proxy>; or a balancer manager, with which a change holds up no request "+
				"(docs/begin.md)", up.Name),
			"an access log in which requests are counted, in the same virtual host: \"CustomLog "+
				"/var/log/apache2/SERVICE.log VARIABLE\"")
		return
	}
	up.Section += fmt.Sprintf("    manager: %s\n    log: /var/log/apache2/SERVICE.log\n", manager)
	up.Ready = true
	up.Needs = append(up.Needs,
		"a member for every address that an instance of green may have, switched off: 'BalancerMember "+
			"\"http://HOST:PORT\" status=+D' with the settings of the others",
		"\"BalancerPersist On\" where ProxyPass stands, and max, acquire, retry and timeout on each member (\"vaiven "+
			"front PLAN\" says which lack)",
		"the log format and the access log that \"vaiven front PLAN\" prints, by which requests are counted")
}
