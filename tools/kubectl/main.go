// Command kubectl is the unmodified client of the published library, for tests
// on machines that have none within one minor of the catalogue. Which version it is the tests tell
// it when they build it; built without that it does not know, and its command version says that
// it could not compare.
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
