package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/front/all"
	"vaiven/lab/standin"
)

// Cluster is a small one, in the place of an orchestrator: it runs the sailing search's builds as pods, and leads
// requests to them.
type Cluster struct {
	API    string // address
	Listen string // address of its gateway
	Port   int    // of the pods
	Folder string // of the demo
}

const (
	namespace  = "ferries"
	kubeconfig = "kubeconfig"
)

func (c Cluster) config() standin.Config {
	return standin.Config{
		Address: c.API, Lag: 100 * time.Millisecond, Dir: c.Folder,
		IP: func(n int) string { return fmt.Sprintf("127.%d.%d.%d", 64+c.Port>>8%128, c.Port&0xff, 1+n%250) },
		Image: func(image string) ([]string, error) {
			tag := image[strings.LastIndexByte(image, ':')+1:]
			program := filepath.Join(c.Folder, "builds", tag, "sailings")
			if _, err := os.Stat(program); err != nil || strings.Contains(tag, "/") {
				return nil, errors.New("not found")
			}
			return []string{program}, nil
		},
	}
}

// Run runs it until the context ends.
func (c Cluster) Run(ctx context.Context) error {
	s, err := standin.Start(c.config())
	if err != nil {
		return err
	}
	for _, side := range split.Sides {
		manifest := fmt.Sprintf(`{apiVersion: v1, kind: Service, metadata: {name: sailings-%[1]v, namespace: %[2]s}, spec: {selector: {app: sailings, vaiven/serves: %[1]v}, ports: [{port: 80, targetPort: %[3]d}]}}`, side, namespace, c.Port)
		err = errors.Join(err, s.Put([]byte(manifest)))
	}
	route := fmt.Sprintf(`{apiVersion: gateway.networking.k8s.io/v1, kind: HTTPRoute, metadata: {name: sailings, namespace: %s, annotations: {%s: "%s"}},
  spec: {parentRefs: [{name: harbour}], rules: [{backendRefs: [{name: sailings-blue, port: 80, weight: 1}, {name: sailings-green, port: 80, weight: 0}]}]}}`, namespace, standin.Listen, c.Listen)
	if err = errors.Join(err, s.Put([]byte(route))); err == nil {
		<-ctx.Done()
	}
	return errors.Join(err, s.Stop())
}

// startCluster starts it, with a kubeconfig for whoever asks it.
func (s *Scenario) startCluster(ctx context.Context, o Options) error {
	text := standin.Config{Address: s.api}.Kubeconfig(namespace)
	if err := os.WriteFile(filepath.Join(s.Folder, kubeconfig), []byte(text), 0o600); err != nil {
		return err
	}
	if err := s.start("front.log", o.services(), "cluster", "--api", s.api, "--listen", s.Plan.Front.Listen, "--port",
		fmt.Sprint(s.pods), "--folder", s.Folder); err != nil {
		return err
	}
	return s.awaitFront(ctx, all.Open(s.Plan))
}
