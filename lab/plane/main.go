// Command plane is a control plane of Kubernetes in one file, with nodes of its own that run pods as processes:
//
//	plane up FOLDER --run registry.lineavessa.example/web=/tmp/web
//
// stands one up in this network namespace, which needs 10.66.0.1/16 on its loopback device, and runs until it is
// ended. FOLDER then has admin.kubeconfig.
package main

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"go.etcd.io/etcd/server/v3/etcdmain"
	"k8s.io/component-base/cli"
	_ "k8s.io/component-base/logs/json/register"
	_ "k8s.io/component-base/metrics/prometheus/clientgo"
	_ "k8s.io/component-base/metrics/prometheus/version"
	apiserver "k8s.io/kubernetes/cmd/kube-apiserver/app"
	manager "k8s.io/kubernetes/cmd/kube-controller-manager/app"
	scheduler "k8s.io/kubernetes/cmd/kube-scheduler/app"
)

func main() {
	if len(os.Args) < 2 {
		fmt.Fprintln(os.Stderr, "up, node, etcd, kube-apiserver, kube-controller-manager or kube-scheduler?")
		os.Exit(2)
	}
	os.Args = os.Args[1:]
	var c *cobra.Command
	switch os.Args[0] {
	case "etcd":
		etcdmain.Main(os.Args)
		return
	case "kube-apiserver":
		c = apiserver.NewAPIServerCommand()
	case "kube-controller-manager":
		c = manager.NewControllerManagerCommand()
	case "kube-scheduler":
		c = scheduler.NewSchedulerCommand()
	case "node":
		c = nodeCommand()
	default:
		c = upCommand()
	}
	os.Exit(cli.Run(c))
}
