// Command fairway is Verbund's network plugin for machines that are real Linux systems. It
// runs in a pod of every node, with the node's own network.
package main

import (
	"context"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"os/signal"
	"syscall"
	"time"

	"k8s.io/client-go/rest"

	"verbund/internal/fairway"
	"verbund/internal/kubeapi"
)

// version is set when it is built.
var version = "unknown"

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "fairway:", err)
		os.Exit(1)
	}
}

func run() error {
	mtu := flag.Int("mtu", 1500, "bytes of a packet, 1280 to 9000")
	verbosity := flag.Int("verbosity", 1, "how much is written: 0 is nothing but how it ends")
	folder := flag.String("cni", "/etc/cni/net.d", "folder of CNI configurations")
	flag.Parse()
	if *mtu < 1280 || *mtu > 9000 {
		return fmt.Errorf("-mtu=%d: from 1280 to 9000", *mtu)
	}
	all, err := netip.ParsePrefix(os.Getenv("POD_RANGE"))
	if err != nil {
		return fmt.Errorf("POD_RANGE, the range of the cluster's pods: %w", err)
	}
	node, at := os.Getenv("NODE_NAME"), os.Getenv("NODE_ADDRESS")
	if node == "" || at == "" {
		return fmt.Errorf("NODE_NAME and NODE_ADDRESS say where it runs, and one is not set")
	}
	cfg, err := rest.InClusterConfig()
	if err != nil {
		return err
	}
	c, err := kubeapi.NewForConfig(cfg)
	if err != nil {
		return err
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, os.Interrupt)
	defer stop()
	log := func(format string, args ...any) {
		if *verbosity < 1 {
			return
		}
		fmt.Printf("%s %s\n", time.Now().UTC().Format(time.RFC3339), fmt.Sprintf(format, args...))
	}
	log("fairway %s on %s", version, node)
	return fairway.Run(ctx, c, fairway.Told{Node: node, Folder: *folder, Pods: all, MTU: *mtu, Healthy: at + ":" + fairway.HealthPort, Log: log})
}
