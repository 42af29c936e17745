package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"syscall"
	"time"

	"github.com/spf13/cobra"
)

// Where everything is, in a network namespace of its own.
const (
	planeAddress = "10.66.0.1"
	planePort    = "6443"
	serviceFirst = "10.67.0.1" // the API's own service
)

// authority makes certificates.
type authority struct {
	folder string
	cert   *x509.Certificate
	key    *ecdsa.PrivateKey
}

func newAuthority(folder string) (*authority, error) {
	a := &authority{folder: folder}
	t := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "plane"}, IsCA: true,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(240 * time.Hour), BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature}
	var err error
	if a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, err
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &a.key.PublicKey, a.key)
	if err != nil {
		return nil, err
	}
	a.cert, err = x509.ParseCertificate(der)
	if err == nil {
		err = a.write("ca", der, a.key)
	}
	return a, err
}

// write writes a certificate and its key.
func (a *authority) write(name string, der []byte, key *ecdsa.PrivateKey) error {
	secret, err := x509.MarshalECPrivateKey(key)
	if err == nil {
		err = os.WriteFile(a.path(name+".key"), pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: secret}),
			0o600)
	}
	if err == nil && der != nil {
		err = os.WriteFile(a.path(name+".crt"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600)
	}
	return err
}

func (a *authority) path(name string) string { return filepath.Join(a.folder, name) }

// issue makes a certificate of somebody, for clients and servers, at some addresses.
func (a *authority) issue(name string, who pkix.Name, addresses ...string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: who,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(240 * time.Hour),
		KeyUsage:    x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth}}
	for _, address := range addresses {
		t.IPAddresses = append(t.IPAddresses, net.ParseIP(address))
	}
	der, err := x509.CreateCertificate(rand.Reader, t, a.cert, &key.PublicKey, a.key)
	if err != nil {
		return err
	}
	return a.write(name, der, key)
}

// kubeconfig writes how somebody reaches the API.
func (a *authority) kubeconfig(name string) error {
	return os.WriteFile(a.path(name+".kubeconfig"), fmt.Appendf(nil, `apiVersion: v1
kind: Config
clusters:
- {name: plane, cluster: {server: "https://%s:%s", certificate-authority: %s}}
users:
- {name: %s, user: {client-certificate: %s, client-key: %s}}
contexts:
- {name: plane, context: {cluster: plane, user: %[4]s, namespace: default}}
current-context: plane
`, planeAddress, planePort, a.path("ca.crt"), name, a.path(name+".crt"), a.path(name+".key")), 0o600)
}

func upCommand() *cobra.Command {
	var runs []string
	var both bool
	c := &cobra.Command{
		Use: "up FOLDER", Args: cobra.ExactArgs(1), SilenceUsage: true,
		RunE: func(c *cobra.Command, args []string) error {
			ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return up(ctx, args[0], runs, both)
		},
	}
	c.Flags().StringArrayVar(&runs, "run", nil, "what an image has to run: NAME=PROGRAM")
	c.Flags().BoolVar(&both, "both-families", false, "pods and services have addresses of both families")
	return c
}

// up stands everything up, says "ready" and runs until the context ends.
func up(ctx context.Context, folder string, runs []string, both bool) error {
	runtime.LockOSThread() // its children end with the thread that has started them
	folder, err := filepath.Abs(folder)
	if err == nil {
		err = os.MkdirAll(folder, 0o700)
	}
	if err != nil {
		return err
	}
	a, err := newAuthority(folder)
	if err != nil {
		return err
	}
	for name, who := range map[string]pkix.Name{
		"api":     {CommonName: "kube-apiserver"},
		"kubelet": {CommonName: "kube-apiserver-kubelet-client", Organization: []string{"system:masters"}},
		"admin":   {CommonName: "admin", Organization: []string{"system:masters"}},
	} {
		if err := a.issue(name, who, planeAddress, "127.0.0.1", serviceFirst); err != nil {
			return err
		}
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err == nil {
		err = a.write("accounts", nil, key)
	}
	if err == nil {
		err = a.kubeconfig("admin")
	}
	if err != nil {
		return err
	}
	services := "10.67.0.0/16"
	if both {
		services += ",fd67::/112"
	}
	run := func(name string, args ...string) error { return child(ctx, folder, name, args...) }
	if err := run("etcd", "--data-dir", a.path("etcd"), "--unsafe-no-fsync", "--listen-client-urls",
		"http://127.0.0.1:2379", "--advertise-client-urls", "http://127.0.0.1:2379", "--listen-peer-urls",
		"http://127.0.0.1:2380", "--initial-advertise-peer-urls", "http://127.0.0.1:2380", "--initial-cluster",
		"default=http://127.0.0.1:2380", "--log-level", "error"); err != nil {
		return err
	}
	if err := apiServer(ctx, a, services); err != nil {
		return err
	}
	if err := a.answers(ctx); err != nil {
		return err
	}
	err = run("kube-controller-manager", "--kubeconfig", a.path("admin.kubeconfig"),
		"--service-account-private-key-file", a.path("accounts.key"), "--root-ca-file", a.path("ca.crt"),
		"--use-service-account-credentials", "--leader-elect=false", "--bind-address", "127.0.0.1",
		"--node-monitor-grace-period", "15s")
	if err == nil {
		err = run("kube-scheduler", "--kubeconfig", a.path("admin.kubeconfig"), "--leader-elect=false",
			"--bind-address", "127.0.0.1")
	}
	for n := 1; n <= 2 && err == nil; n++ {
		name, address := fmt.Sprintf("node-%d", n), fmt.Sprintf("10.66.0.%d", 1+n)
		if err = a.issue(name, pkix.Name{CommonName: name}, address); err != nil {
			break
		}
		args := []string{"--kubeconfig", a.path("admin.kubeconfig"), "--name", name, "--address", address,
			"--certificate", a.path(name + ".crt"), "--key", a.path(name + ".key"), "--pods",
			fmt.Sprintf("10.66.%d.", n)}
		if both {
			args = append(args, "--pods6", fmt.Sprintf("fd66::%d:", n))
		}
		for _, r := range runs {
			args = append(args, "--run", r)
		}
		err = run("node", args...)
	}
	if err != nil {
		return err
	}
	fmt.Println("ready")
	<-ctx.Done()
	return nil
}

// apiServer starts the API server.
func apiServer(ctx context.Context, a *authority, services string) error {
	return child(ctx, a.folder, "kube-apiserver", "--etcd-servers", "http://127.0.0.1:2379", "--bind-address",
		planeAddress, "--advertise-address", planeAddress, "--secure-port", planePort, "--tls-cert-file",
		a.path("api.crt"), "--tls-private-key-file", a.path("api.key"), "--client-ca-file", a.path("ca.crt"),
		"--kubelet-client-certificate", a.path("kubelet.crt"), "--kubelet-client-key", a.path("kubelet.key"),
		"--kubelet-certificate-authority", a.path("ca.crt"), "--service-account-issuer",
		"https://kubernetes.default.svc", "--service-account-key-file", a.path("accounts.key"),
		"--service-account-signing-key-file", a.path("accounts.key"), "--service-cluster-ip-range", services,
		"--authorization-mode", "RBAC,Node", "--kubelet-preferred-address-types", "InternalIP")
}

// child starts a part of the plane, which is ended with this one. What it says is in FOLDER/NAME.log, and its number
// in FOLDER/NAME.pid.
func child(ctx context.Context, folder, name string, args ...string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	label := name
	for n, arg := range args {
		if arg == "--name" {
			label = args[n+1]
		}
	}
	log, err := os.Create(filepath.Join(folder, label+".log"))
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, self, append([]string{name}, args...)...)
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 3 * time.Second
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		return err
	}
	go func() { _ = cmd.Wait() }()
	return os.WriteFile(filepath.Join(folder, label+".pid"), fmt.Append(nil, cmd.Process.Pid), 0o600)
}

// answers waits until the API answers.
func (a *authority) answers(ctx context.Context) error {
	pool := x509.NewCertPool()
	pool.AddCert(a.cert)
	client := http.Client{Timeout: time.Second,
		Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
	late := time.After(2 * time.Minute)
	for {
		w, err := client.Get("https://" + planeAddress + ":" + planePort + "/readyz")
		if err == nil {
			text, _ := io.ReadAll(w.Body)
			_ = w.Body.Close()
			if w.StatusCode == http.StatusOK {
				return nil
			}
			err = fmt.Errorf("%s: %.200s", w.Status, text)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-late:
			return fmt.Errorf("the API does not answer: %w", err)
		case <-time.After(200 * time.Millisecond):
		}
	}
}
