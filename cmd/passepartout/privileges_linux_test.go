package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each command keeps the capabilities that it needs, in every thread, and can have no others.
func TestWhatEachCommandKeeps(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root has something to give up")
	}
	const raw, search, override, trace = 1 << 13, 1 << 2, 1 << 1, 1 << 19
	file := filepath.Join(t.TempDir(), "x.pcapng")
	for args, want := range map[string]int{"answer --port 0": 0, "ping 127.0.0.1": raw | search, "watch 127.0.0.1": raw | search,
		"ping --scenario healthy 172.27.40.1": search,
		"sockets --for 1m":                    search, "owners": search | trace, "capture -i lo --out " + file: raw | search | override} {
		t.Run(args, func(t *testing.T) {
			t.Parallel()
			cmd := exec.Command(binary, strings.Fields(args)...)
			in, err := cmd.StdinPipe() // some end with what tells them to
			require.NoError(t, err)
			require.NoError(t, cmd.Start())
			defer func() { in.Close(); _ = cmd.Process.Kill(); _ = cmd.Wait() }()
			kept := regexp.MustCompile(`(?m)^CapPrm:\t(.*)\n(?:.*\n)*NoNewPrivs:\t(.)`)
			var last []string
			assert.Eventually(t, func() bool {
				tasks, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/status", cmd.Process.Pid))
				last = nil
				for _, task := range tasks {
					text, err := os.ReadFile(task)
					if err != nil {
						continue
					}
					if m := kept.FindStringSubmatch(string(text)); m == nil || m[1] != fmt.Sprintf("%016x", want) || m[2] != "1" {
						last = append(last, fmt.Sprint(task, " ", m))
					}
				}
				return err == nil && len(tasks) > 1 && len(last) == 0
			}, time.Minute, 20*time.Millisecond, "%v", &last)
		})
	}
}
