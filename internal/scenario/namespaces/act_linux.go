package namespaces

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"runtime"
	"time"

	"passepartout/internal/scenario"
)

// actEnv marks a process that is one of the endpoint's programs.
const actEnv = "PASSEPARTOUT_LAB_ACT"

// Act begins the endpoint's programs, each in a process of its own; stop ends them.
func (l *Lab) Act() (stop func(), err error) {
	var begun []func()
	stop = func() {
		for _, end := range begun {
			end()
		}
	}
	endpoint := l.scenario.Site.Endpoint
	for _, p := range l.scenario.Site.Nodes[endpoint].Programs {
		raw, err := json.Marshal(p)
		if err != nil {
			stop()
			return nil, err
		}
		cmd := exec.Command("/proc/self/exe")
		cmd.Env = append(os.Environ(), actEnv+"="+string(raw))
		in, err := cmd.StdinPipe()
		if err == nil {
			err = l.On(endpoint, cmd.Start)
		}
		if err != nil {
			stop()
			return nil, fmt.Errorf("%s: %w", p.Name, err)
		}
		begun = append(begun, func() { in.Close(); _ = cmd.Wait() })
	}
	return stop, nil
}

// maybeAct turns a process that Act started into that program, until whoever started it has gone.
func maybeAct() {
	raw, ok := os.LookupEnv(actEnv)
	if !ok {
		return
	}
	var p scenario.Program
	err := json.Unmarshal([]byte(raw), &p)
	if err == nil {
		err = os.WriteFile("/proc/self/comm", []byte(p.Name), 0)
	}
	var listeners []net.Listener // held: one that nobody holds is closed
	for _, at := range p.Listens {
		network := "tcp6"
		if at.Addr().Is4() {
			network = "tcp4"
		}
		listener, failed := net.Listen(network, at.String())
		listeners, err = append(listeners, listener), errors.Join(err, failed)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "acting:", err)
		os.Exit(125)
	}
	for _, to := range p.Connects {
		go func() {
			for {
				if c, err := net.DialTimeout("tcp", to.String(), 40*time.Second); err == nil {
					_, _ = io.Copy(io.Discard, c)
					c.Close()
				}
				time.Sleep(3 * time.Second)
			}
		}()
	}
	_, _ = io.Copy(io.Discard, os.Stdin)
	runtime.KeepAlive(listeners)
	os.Exit(0)
}
