package stacktest

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// Plane is the folder of a real control plane that `make cluster-test` has stood up, a kubeconfig of its own for a new
// namespace of it, and that namespace, which is for the caller to make. Without a control plane the test is skipped.
func Plane(t *testing.T) (folder, kubeconfig, namespace string) {
	t.Helper()
	if folder = os.Getenv("VAIVEN_PLANE"); folder == "" {
		t.Skip("needs a control plane: make cluster-test")
	}
	namespace = "n" + strconv.FormatInt(time.Now().UnixNano(), 36)
	text, err := os.ReadFile(filepath.Join(folder, "admin.kubeconfig"))
	if err != nil {
		t.Fatal(err)
	}
	kubeconfig = filepath.Join(t.TempDir(), "kubeconfig")
	own := strings.Replace(string(text), "namespace: default", "namespace: "+namespace, 1)
	if err := os.WriteFile(kubeconfig, []byte(own), 0o600); err != nil {
		t.Fatal(err)
	}
	return folder, kubeconfig, namespace
}
