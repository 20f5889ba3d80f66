package sim

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/kubeapi"
	"verbund/internal/sim/apiserver"
	"verbund/internal/sim/balancer"
	"verbund/internal/sim/controllers"
	"verbund/internal/sim/daemon"
	"verbund/internal/sim/etcdmember"
	"verbund/internal/sim/host"
	"verbund/internal/sim/linux"
	"verbund/internal/sim/node"
	"verbund/internal/sim/zone"
	"verbund/internal/unit/approver"
	"verbund/internal/unit/carrier"
	"verbund/internal/unit/keeper"
	"verbund/internal/whole"
)

// self is the program's own image; it also works when the file it was started
// from is gone, as under "go run".
const self = "/proc/self/exe"

// The arguments that make the program one of the site's processes.
const (
	ArgSite   = "simulated-site"
	ArgZone   = "simulated-zone"
	ArgMember = "simulated-datastore"
	ArgReal   = "linux-zone" // a zone whose machines are real systems
)

// mostTold is how many objects a zone's machines keep of what they were told last: a few for each
// node of a large cluster.
const mostTold = 2048

// programs is everything that units can run.
func programs() map[string]host.Program {
	return map[string]host.Program{
		"etcd":                    etcdmember.Program([]string{self, ArgMember}),
		"kube-apiserver":          apiserver.Run,
		"kube-controller-manager": controllers.Manager,
		"kube-scheduler":          controllers.Scheduler,
		"containerd":              node.Containerd(node.Images()),
		"kubelet":                 node.Kubelet,
		"kube-proxy":              node.Proxy,
		"haproxy":                 balancer.Run,
		"endpoint-carrier":        host.Own(carrier.Run),
		"request-approver":        host.Own(approver.Run),
		"backup-keeper":           host.Own(keeper.Run),
	}
}

// Main runs one of the site's processes, if args ask for one.
func Main(args []string) (handled bool, err error) {
	if len(args) == 1 && args[0] == linux.Arg {
		return true, linux.Main(os.Stdin)
	}
	if len(args) < 2 {
		return false, nil
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	// These processes outlive an interrupt of the command that started them.
	signal.Ignore(syscall.SIGINT, syscall.SIGHUP)
	go keepLog(ctx)
	switch args[0] {
	case ArgSite:
		return true, runSite(ctx, args[1], args[2:])
	case ArgZone:
		all := programs()
		kubeapi.ReadOnce(mostTold)
		return true, zone.Run(ctx, os.Stdin, os.Stdout, func(ctx context.Context, s host.Spec, onReboot func()) (zone.Machine, error) {
			return host.Boot(ctx, s, all, onReboot)
		})
	case ArgReal:
		return true, zone.Run(ctx, os.Stdin, os.Stdout, func(ctx context.Context, s host.Spec, onReboot func()) (zone.Machine, error) {
			return linux.Boot(ctx, s, onReboot)
		})
	case ArgMember:
		if len(args) < 3 {
			return true, fmt.Errorf("%s: a configuration and a disk are needed", ArgMember)
		}
		return true, etcdmember.Main(ctx, args[1], args[2], os.Stdin, os.Stdout)
	}
	return false, nil
}

// keepLog keeps the log that this process writes to on standard error from becoming large.
func keepLog(ctx context.Context) {
	look := time.NewTicker(time.Minute)
	defer look.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-look.C:
			if err := whole.Cut(os.Stderr); err != nil {
				fmt.Fprintf(os.Stderr, "the log could not be set aside: %v\n", err)
			}
		}
	}
}

// runSite serves the site in a folder from its file. On standard output goes
// one line: "ready", or why not.
func runSite(ctx context.Context, folder string, rest []string) error {
	if len(rest) < 1 {
		return fmt.Errorf("%s: a folder and a site file are needed", ArgSite)
	}
	err := func() error {
		data, err := os.ReadFile(rest[0])
		if err != nil {
			return err
		}
		file, fs := declare.ReadSite(rest[0], data)
		if fs.Errors() > 0 {
			return fmt.Errorf("%s", fs[0])
		}
		if file.Stock != "" && !filepath.IsAbs(file.Stock) {
			file.Stock = filepath.Join(filepath.Dir(rest[0]), file.Stock)
		}
		images, err := imagesFolder()
		if err != nil {
			return err
		}
		child := ArgZone
		if file.Kind == declare.LinuxSite {
			child = ArgReal
		}
		return daemon.Run(ctx, folder, file, images, []string{self, child}, func(said string) {
			fmt.Fprintln(os.Stdout, strings.TrimSuffix("ready: "+said, ": "))
			os.Stdout.Close()
		})
	}()
	if err != nil {
		fmt.Fprintln(os.Stdout, err)
	}
	return err
}

// imagesFolder is where composed machine images are kept: they are the same for every site.
func imagesFolder() (string, error) {
	d := os.Getenv("VERBUND_CACHE")
	if d == "" {
		var err error
		if d, err = os.UserCacheDir(); err != nil {
			return "", fmt.Errorf("finding a folder for machine images: %w; set VERBUND_CACHE", err)
		}
		d = filepath.Join(d, "verbund")
	}
	return filepath.Join(d, "images"), nil
}
