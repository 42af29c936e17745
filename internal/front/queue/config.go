package queue

import (
	"fmt"
	"net"
	"path/filepath"
	"strconv"
	"strings"
	"text/template"

	"vaiven/internal/core/plan"
	"vaiven/internal/front"
)

// configText is a broker for one service, as it is started for a demo or a test.
var configText = template.Must(template.New("rabbitmq").Parse(`# A broker for {{.Service}}, on loopback alone.
listeners.tcp.1 = {{.Listen}}
management.tcp.ip = {{.Host}}
management.tcp.port = {{.Management}}
collect_statistics_interval = 500
management.sample_retention_policies.global.minute = 1
management.sample_retention_policies.basic.minute = 1
management.sample_retention_policies.detailed.minute = 1
log.console = true
log.console.level = warning
`))

// startText starts it in the foreground, with its port mapper beside it, as whoever starts it.
const startText = `#!/bin/sh
# Starts the broker with everything that it writes in this folder.
set -eu
cd "$(dirname "$0")"
here=$PWD
ERL_EPMD_ADDRESS=127.0.0.1 epmd -port (portmap) &
exec env -i "PATH=$PATH:/usr/sbin" "HOME=$here" LANG=C.UTF-8 ERL_EPMD_ADDRESS=127.0.0.1 ERL_EPMD_PORT=(portmap) \
	RABBITMQ_CONF_ENV_FILE=/dev/null RABBITMQ_NODENAME=(node)@localhost RABBITMQ_DIST_PORT=(distant) \
	"RABBITMQ_CONFIG_FILE=$here/rabbitmq.conf" "RABBITMQ_ADVANCED_CONFIG_FILE=$here/advanced.config" \
	"RABBITMQ_ENABLED_PLUGINS_FILE=$here/enabled_plugins" "RABBITMQ_MNESIA_BASE=$here/mnesia" "RABBITMQ_LOG_BASE=$here/log" \
	"RABBITMQ_PID_FILE=$here/pid" "RABBITMQ_SERVER_ADDITIONAL_ERL_ARGS=-kernel inet_dist_use_interface {127,0,0,1} +S 2:2 +sbwt none +sbwtdcpu none +sbwtdio none" \
	/usr/lib/rabbitmq/bin/rabbitmq-server
`

// neededText is what a broker that is there needs.
const neededText = `# rabbitmq.conf needs no line for Vaiven. These plugins have to be enabled, the second one where both sides get messages (shares):
#   rabbitmq-plugins enable rabbitmq_management rabbitmq_consistent_hash_exchange
# Numbers come sooner, and guards judge sooner, with:
collect_statistics_interval = 1000
management.sample_retention_policies.basic.minute = 1
management.sample_retention_policies.detailed.minute = 1
`

// config is a broker's configuration. Two ports above that of the management interface are the broker's own.
func config(service string, f plan.Front, s front.Site) front.Config {
	if s.Folder == "" {
		return front.Config{Text: neededText}
	}
	settings := f.Settings.(*Settings)
	at := settings.Management[strings.LastIndex(settings.Management, "/")+1:]
	host, port, err := net.SplitHostPort(at)
	n, errPort := strconv.Atoi(port)
	if err != nil || errPort != nil {
		host, n = "127.0.0.1", 15672
	}
	c := s.Config(configText, struct {
		Service, Listen, Host string
		Management            int
	}{service, f.Listen, host, n}, "rabbitmq.conf")
	start := filepath.Join(s.Folder, "start")
	c.Args = []string{start}
	c.Beside = map[string]string{
		start: strings.NewReplacer("(portmap)", fmt.Sprint(n+1), "(distant)", fmt.Sprint(n+2), "(node)",
			"vaiven"+fmt.Sprint(n)).Replace(startText),
		filepath.Join(s.Folder, "advanced.config"): "[].\n",
		filepath.Join(s.Folder, "enabled_plugins"): "[rabbitmq_management,rabbitmq_consistent_hash_exchange,rabbitmq_shovel].\n",
	}
	return c
}
