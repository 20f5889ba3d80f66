// Command pause holds a pod's namespaces: it waits, and as their first process it takes in
// what others have left behind.
package main

import (
	"os"
	"os/signal"
	"syscall"
)

func main() {
	end := make(chan os.Signal, 1)
	signal.Notify(end, syscall.SIGINT, syscall.SIGTERM)
	left := make(chan os.Signal, 1)
	signal.Notify(left, syscall.SIGCHLD)
	for {
		select {
		case <-end:
			return
		case <-left:
			for {
				var st syscall.WaitStatus
				if pid, err := syscall.Wait4(-1, &st, syscall.WNOHANG, nil); pid <= 0 || err != nil {
					break
				}
			}
		}
	}
}
