package httpd

import (
	"context"
	"fmt"
	"regexp"
	"strings"
)

// Lacks names what the configuration of the httpd in place has not, and should have, for
// its balancer to be steered by the manager: so that a reload by anybody keeps what the
// manager was told, and instances that hang leave workers to the manager.
func (m *Manager) Lacks(ctx context.Context) ([]string, error) {
	texts, err := (&server{on: m.on, config: m.config.Settings}).texts(ctx)
	if err != nil {
		return nil, err
	}
	return lacks(texts, m.config.Balancer), nil
}

var (
	opens    = regexp.MustCompile(`(?i)^<(VirtualHost|Proxy)\b\s*"?([^">]*)"?\s*>`)
	closes   = regexp.MustCompile(`(?i)^</(VirtualHost|Proxy)>`)
	persists = regexp.MustCompile(`(?i)^BalancerPersist\s+On\b`)
	member   = regexp.MustCompile(`(?i)^BalancerMember\s`)
	timeouts = regexp.MustCompile(`(?i)^(ProxyTimeout\s|ProxySet\s.*\btimeout=)`)
)

// lacks reads the files of a configuration, as far as it says something of a balancer.
func lacks(texts []string, balancer string) []string {
	passes := regexp.MustCompile(`(?i)^ProxyPass(Match)?\s.*\bbalancer://` + regexp.QuoteMeta(balancer) + `\b`)
	uses, keeps := false, true // it is passed to, and everywhere where it is, it is persistent
	max, acquire, retry, limit := true, true, true, false
	for _, text := range texts {
		host := 0    // number of the virtual host, 0 outside of all
		hosts := 0   // so far
		within := "" // the balancer whose block this is
		sends := map[int]bool{}
		keep := map[int]bool{}
		for line := range strings.Lines(text) {
			line = strings.TrimSpace(line)
			switch m := opens.FindStringSubmatch(line); {
			case m != nil && strings.EqualFold(m[1], "Proxy"):
				within = strings.TrimPrefix(m[2], "balancer://")
			case m != nil:
				hosts++
				host = hosts
			case closes.MatchString(line) && within != "":
				within = ""
			case closes.MatchString(line):
				host = 0
			case passes.MatchString(line):
				sends[host] = true
			case persists.MatchString(line):
				keep[host] = true
			case timeouts.MatchString(line):
				limit = true
			case member.MatchString(line) && within == balancer:
				max = max && strings.Contains(line, " max=")
				acquire = acquire && strings.Contains(line, " acquire=")
				retry = retry && strings.Contains(line, " retry=")
				limit = limit || strings.Contains(line, " timeout=")
			}
		}
		for host := range sends {
			uses, keeps = true, keeps && keep[host]
		}
	}
	var list []string
	if !uses || !keeps {
		list = append(list, "BalancerPersist On, where ProxyPass stands: without it a reload by anybody forgets what "+
			"the manager was told, and every request gets 503")
	}
	var missing []string
	for _, m := range []struct {
		there bool
		name  string
	}{{max, "max"}, {acquire, "acquire"}, {limit, "timeout"}} {
		if !m.there {
			missing = append(missing, m.name)
		}
	}
	if acquire && !retry {
		list = append(list, "retry on each BalancerMember: without it an instance that is busy for longer than "+
			"acquire gets no requests for a minute")
	}
	if len(missing) > 0 {
		list = append(list, fmt.Sprintf("%s on each BalancerMember: without it instances that hang take all of "+
			"httpd's workers, those for the manager too, and going home waits for them",
			strings.Join(missing, ", ")))
	}
	return list
}
