//go:build unix

package render

import (
	"os"
	"os/signal"
	"syscall"

	"gentleharbor/core/defect"
)

// aroundStops calls leave before the terminal stops the program (Ctrl-Z), and again when it continues, as a shell may
// have changed the terminal's modes meanwhile. done ends that.
func aroundStops(leave, again func()) (done func()) {
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGTSTP, syscall.SIGCONT)
	over := make(chan struct{})
	defect.Go(func() {
		for {
			select {
			case <-over:
				return
			case s := <-signals:
				if s == syscall.SIGCONT {
					again()
					continue
				}
				leave()
				syscall.Kill(syscall.Getpid(), syscall.SIGSTOP)
			}
		}
	})
	return func() {
		signal.Stop(signals)
		close(over)
	}
}
