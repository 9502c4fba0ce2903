package namespaces

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"passepartout/internal/core/endpoint"
)

// As says under which rights a program runs in a lab.
type As uint8

// The rights.
const (
	Root        As = iota
	EchoAllowed    // another user without capabilities, ICMP datagram sockets open
	EchoClosed     // the same, ICMP datagram sockets closed
)

func (a As) String() string {
	return [...]string{"root", "user with echo", "user without echo"}[a]
}

// enterEnv marks the process that Run starts to prepare the ground for a program.
const enterEnv = "PASSEPARTOUT_LAB_ENTER"

type entry struct {
	ResolvConf, Hosts string
	Switching         string
	Library           string // what stands for /var/lib
	Run               string // what stands for /run; "" leaves it as it is
	Drop              bool
	Program           string
	Args              []string
}

// command prepares a program to run on the endpoint, with its resolv.conf and hosts file in place: this same executable is started, and
// becomes that program in MaybeEnter.
func (l *Lab) command(as As, program string, args ...string) (*exec.Cmd, error) {
	node := l.scenario.Site.Nodes[l.scenario.Site.Endpoint]
	if err := l.writeFiles(); err != nil {
		return nil, err
	}
	library, err := l.libraryOf(l.scenario.Site.Endpoint)
	if err != nil {
		return nil, err
	}
	e := entry{Library: library, ResolvConf: filepath.Join(l.dir, "resolv.conf"), Hosts: filepath.Join(l.dir, "hosts"),
		Switching: filepath.Join(l.dir, "nsswitch.conf"), Drop: as != Root, Program: program, Args: args}
	if len(node.Behind) > 0 {
		e.Run = filepath.Join(l.dir, "run")
	}
	raw, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	cmd := exec.Command("/proc/self/exe")
	// Proxies that are set where the tests run are none of the site's.
	cmd.Env = slices.DeleteFunc(os.Environ(), func(v string) bool {
		name, _, _ := strings.Cut(v, "=")
		return strings.HasSuffix(strings.ToLower(name), "_proxy")
	})
	if node.Proxies != nil {
		for name, value := range node.Proxies.Variables() {
			cmd.Env = append(cmd.Env, name+"="+value)
		}
	}
	cmd.Env = append(cmd.Env, enterEnv+"="+string(raw), "SSL_CERT_FILE="+filepath.Join(l.dir, "authority.pem"))
	cmd.Env = append(cmd.Env, l.Env...)
	return cmd, nil
}

// writeFiles writes what the endpoint has in the place of /etc, as it is now. Files that are there keep their place, so that a program that
// runs sees the change.
func (l *Lab) writeFiles() error {
	node := l.scenario.NodeAt(l.scenario.Site.Endpoint, time.Since(l.Began))
	var hosts strings.Builder
	hosts.WriteString("127.0.0.1 localhost\n")
	for name, a := range node.Hosts {
		fmt.Fprintf(&hosts, "%v %s\n", a, name)
	}
	files := map[string]string{"resolv.conf": cmp.Or(l.ResolvConf, node.ResolvConfText()), "hosts": cmp.Or(l.Hosts, hosts.String()),
		"nsswitch.conf": cmp.Or(node.Switching, "hosts: files dns\n"), "authority.pem": string(l.authority.PEM())}
	if text := node.BehindText(); text != "" {
		files["run"+strings.TrimPrefix(endpoint.StubFile, "/run")] = text
		if err := os.MkdirAll(filepath.Join(l.dir, "run", filepath.Dir(strings.TrimPrefix(endpoint.StubFile, "/run"))), 0o755); err != nil {
			return err
		}
	}
	for name, content := range files {
		if err := os.WriteFile(filepath.Join(l.dir, name), []byte(content), 0o644); err != nil {
			return err
		}
	}
	_, err := l.libraryOf(l.scenario.Site.Endpoint)
	return err
}

// Start runs a program on the endpoint beside the test, its standard output handed over as it comes; stop ends it as Ctrl-C does, and
// waits.
func (l *Lab) Start(as As, program string, args ...string) (output io.ReadCloser, stop func() error, err error) {
	cmd, err := l.command(as, program, args...)
	if err != nil {
		return nil, nil, err
	}
	if output, err = cmd.StdoutPipe(); err != nil {
		return nil, nil, err
	}
	return output, func() error {
		_ = cmd.Process.Signal(os.Interrupt)
		return cmd.Wait()
	}, In(l.nodes[l.scenario.Site.Endpoint], func() error { return l.begin(as, cmd.Start) })
}

// OnTerminal runs a program on the endpoint beside the test, at a terminal of its own, which ends when the other side of it is closed.
func (l *Lab) OnTerminal(as As, program string, args ...string) (cmd *exec.Cmd, side *os.File, err error) {
	if cmd, err = l.command(as, program, args...); err != nil {
		return nil, nil, err
	}
	side, terminal, err := newTerminal()
	if err != nil {
		return nil, nil, err
	}
	defer terminal.Close()
	cmd.Stdin, cmd.Stdout, cmd.Stderr = terminal, terminal, terminal
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	return cmd, side, In(l.nodes[l.scenario.Site.Endpoint], func() error { return l.begin(as, cmd.Start) })
}

// newTerminal makes a pseudo-terminal (pty(7)).
func newTerminal() (side, terminal *os.File, err error) {
	side, err = os.OpenFile("/dev/ptmx", os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		return nil, nil, err
	}
	n := 0
	conn, err := side.SyscallConn()
	if err == nil {
		var unlocked error
		err = conn.Control(func(fd uintptr) { // not by Fd, after which closing waits for whoever reads
			if n, unlocked = unix.IoctlGetInt(int(fd), unix.TIOCGPTN); unlocked == nil {
				unlocked = unix.IoctlSetPointerInt(int(fd), unix.TIOCSPTLCK, 0)
			}
		})
		err = errors.Join(err, unlocked)
	}
	if err == nil {
		terminal, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|unix.O_NOCTTY, 0)
	}
	if err != nil {
		side.Close()
	}
	return side, terminal, err
}

// begin opens or closes the sockets for echo to users without capabilities, and starts a program.
func (l *Lab) begin(as As, start func() error) error {
	open := "1 0"
	if as == EchoAllowed {
		open = "0 2147483647"
	}
	if err := sysctl("ipv4/ping_group_range", open); err != nil {
		if err := sysctl("ipv4/ping_group_range", "0 0"); err != nil { // a user namespace with one group
			return err
		}
	}
	return start()
}

// Run runs a program on the endpoint and returns its output and exit status. The calling program must call MaybeEnter before anything else.
func (l *Lab) Run(as As, program string, args ...string) (stdout, stderr string, status int, err error) {
	out, err := l.Measure(as, program, args...)
	return out.Stdout, out.Stderr, out.Status, err
}

// Outcome is what became of a program that ran on the endpoint.
type Outcome struct {
	Stdout, Stderr string
	Status         int
	Took, CPU      time.Duration
	Peak           int64 // octets of memory, resident
}

// Measure is Run, and tells what the run took.
func (l *Lab) Measure(as As, program string, args ...string) (o Outcome, err error) {
	cmd, err := l.command(as, program, args...)
	if err != nil {
		return o, err
	}
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	began := time.Now()
	if err = In(l.nodes[l.scenario.Site.Endpoint], func() error { return l.begin(as, cmd.Start) }); err != nil {
		return o, err
	}
	ended, peak := make(chan struct{}), make(chan int64)
	go func() { peak <- followMemory(cmd.Process.Pid, program, ended) }()
	err = cmd.Wait()
	close(ended)
	o.Stdout, o.Stderr, o.Took, o.Peak = out.String(), errs.String(), time.Since(began), <-peak
	o.CPU = cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		o.Status = exit.ExitCode()
		return o, nil
	}
	return o, err
}

// followMemory looks, until a process has ended, at the most memory that it had (VmHWM, proc(5)), once it has become that program: what the
// system itself counts at the end is that of the one that began it, too.
func followMemory(pid int, program string, ended <-chan struct{}) (peak int64) {
	program, _ = filepath.EvalSymlinks(program)
	for tick := time.NewTicker(5 * time.Millisecond); ; {
		select {
		case <-ended:
			tick.Stop()
			return peak
		case <-tick.C:
		}
		if is, err := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid)); err != nil || is != program {
			continue
		}
		status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		if _, text, ok := strings.Cut(string(status), "VmHWM:"); ok {
			var kib int64
			_, _ = fmt.Sscan(text, &kib)
			peak = max(peak, kib<<10)
		}
	}
}

// MaybeEnter turns a process that Run or Act started into the program it is to run, and returns in any other.
func MaybeEnter() {
	maybeAct()
	raw, ok := os.LookupEnv(enterEnv)
	if !ok {
		return
	}
	runtime.LockOSThread()
	err := enter(raw)
	fmt.Fprintln(os.Stderr, "entering the lab:", err)
	os.Exit(125)
}

func enter(raw string) error {
	var e entry
	if err := json.Unmarshal([]byte(raw), &e); err != nil {
		return err
	}
	if err := unix.Unshare(unix.CLONE_NEWNS); err != nil {
		return fmt.Errorf("mount namespace: %w", err)
	}
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("private mounts: %w", err)
	}
	places := map[string]string{e.ResolvConf: "/etc/resolv.conf", e.Hosts: "/etc/hosts", e.Switching: endpoint.SwitchFile,
		e.Library: "/var/lib"}
	if e.Run != "" {
		places[e.Run] = "/run"
	}
	for from, to := range places {
		if real, err := filepath.EvalSymlinks(to); err == nil {
			to = real
		}
		if err := unix.Mount(from, to, "", unix.MS_BIND, ""); err != nil {
			return fmt.Errorf("%s: %w", to, err)
		}
	}
	_ = unix.Mount("sysfs", "/sys", "sysfs", unix.MS_RDONLY, "") // shows the ports of this namespace; not every user namespace may
	if e.Drop {
		if err := drop(); err != nil {
			return err
		}
	}
	env := os.Environ()
	for i, v := range env {
		if strings.HasPrefix(v, enterEnv+"=") {
			env = append(env[:i], env[i+1:]...)
			break
		}
	}
	return unix.Exec(e.Program, append([]string{e.Program}, e.Args...), env)
}

// drop gives up every capability for good, and becomes another user where the namespace knows one.
func drop() error {
	const nobody = 65534
	if mapped, err := os.ReadFile("/proc/self/uid_map"); err == nil && len(strings.Fields(string(mapped))) == 3 &&
		strings.Fields(string(mapped))[2] != "1" {
		if err := unix.Setgroups(nil); err != nil {
			return fmt.Errorf("groups: %w", err)
		}
		if err := unix.Setresgid(nobody, nobody, nobody); err != nil {
			return fmt.Errorf("group: %w", err)
		}
		return unix.Setresuid(nobody, nobody, nobody)
	}
	// A user namespace with a single user: stay that user, without any capability and without a way back to one.
	if err := unix.Prctl(unix.PR_SET_SECUREBITS, 1<<0|1<<1, 0, 0, 0); err != nil { // SECBIT_NOROOT and its lock
		return fmt.Errorf("secure bits: %w", err)
	}
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	none := [2]unix.CapUserData{}
	return unix.Capset(&header, &none[0])
}
