// Command kubectl is the unmodified client of the published library, for tests
// on machines that have none within one minor of the catalogue.
package main

import (
	"os"

	"k8s.io/cli-runtime/pkg/genericiooptions"
	"k8s.io/component-base/cli"
	"k8s.io/kubectl/pkg/cmd"
)

func main() {
	os.Exit(cli.Run(cmd.NewDefaultKubectlCommandWithArgs(cmd.KubectlOptions{
		PluginHandler: cmd.NewDefaultPluginHandler(nil),
		Arguments:     os.Args,
		IOStreams:     genericiooptions.IOStreams{In: os.Stdin, Out: os.Stdout, ErrOut: os.Stderr},
	})))
}
