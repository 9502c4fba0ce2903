package privilege_test

import (
	"bufio"
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"passepartout/internal/privilege"
)

// can is what a process that has given up its privileges still can do.
type can struct {
	Frames, ReadRoots, ReadPlain, WriteHere, WriteNamed, WriteSystem, Connect bool
	NewPrivileges                                                             bool
	Capabilities                                                              string
}

// A process cannot get back what it gave up: each case is a process of its own, which says what it can do.
func TestMain(m *testing.M) {
	asked := os.Getenv("KEEP")
	if asked == "" {
		os.Exit(m.Run())
	}
	var k privilege.Keep
	if json.Unmarshal([]byte(asked), &k) != nil {
		os.Exit(2)
	}
	server, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		os.Exit(2)
	}
	if err := privilege.Drop(k, os.Getenv("NAMED")); err != nil {
		os.Stderr.WriteString(err.Error())
		os.Exit(2)
	}
	writes := func(path string) bool {
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE, 0o600)
		if err == nil {
			f.Close()
		}
		return err == nil
	}
	reads := func(path string) bool { _, err := os.ReadFile(path); return err == nil }
	var c can
	if fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW, 0); err == nil {
		c.Frames = true
		unix.Close(fd)
	}
	c.ReadPlain, c.ReadRoots = reads("/etc/hostname"), reads(os.Getenv("CLOSED"))
	c.WriteNamed, c.WriteSystem = writes(os.Getenv("NAMED")+"/x"), writes("/etc/passepartout-test")
	c.WriteHere = writes("written-here")
	conn, err := net.Dial("tcp", server.Addr().String())
	if c.Connect = err == nil; c.Connect {
		conn.Close()
	}
	ambient, _ := unix.PrctlRetInt(unix.PR_GET_NO_NEW_PRIVS, 0, 0, 0, 0)
	c.NewPrivileges = ambient == 0
	hdr, data := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}, [2]unix.CapUserData{}
	if unix.Capget(&hdr, &data[0]) == nil {
		for value, name := range map[int]string{unix.CAP_NET_RAW: "raw ", unix.CAP_DAC_READ_SEARCH: "search ", unix.CAP_DAC_OVERRIDE: "override ",
			unix.CAP_NET_ADMIN: "admin ", unix.CAP_SYS_ADMIN: "system ", unix.CAP_SETUID: "setuid ", unix.CAP_SYS_PTRACE: "ptrace "} {
			if data[value/32].Permitted&(1<<(value%32)) != 0 {
				c.Capabilities += name
			}
		}
	}
	_ = json.NewEncoder(os.Stdout).Encode(c)
	os.Exit(0)
}

func TestDrop(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root has something to give up")
	}
	dir := "/var/lib" // a folder of the system's own, in which nothing may be written unless it is named
	named, err := os.MkdirTemp(dir, "passepartout-test")
	require.NoError(t, err)
	defer os.RemoveAll(named)
	closed := filepath.Join(t.TempDir(), "lease")
	require.NoError(t, os.WriteFile(closed, []byte("x"), 0o600))
	require.NoError(t, os.Chown(closed, 12345, 12345))
	landlocked := abi() > 0
	for name, c := range map[string]struct {
		keep privilege.Keep
		want can
	}{
		"nothing": {privilege.Keep{}, can{}},
		"frames and files to read": {privilege.Keep{Frames: true, Read: true},
			can{Frames: true, ReadPlain: true, ReadRoots: true, Connect: true}},
		"a simulated site": {privilege.Keep{Read: true}, can{ReadPlain: true, ReadRoots: true, Connect: true}},
		"all of them": {privilege.Keep{Frames: true, Read: true, Write: true},
			can{Frames: true, ReadPlain: true, ReadRoots: true, Connect: true, WriteHere: true, WriteNamed: true}},
	} {
		t.Run(name, func(t *testing.T) {
			keep, err := json.Marshal(c.keep)
			require.NoError(t, err)
			cmd := exec.Command(os.Args[0])
			cmd.Dir = t.TempDir()
			cmd.Env = append(os.Environ(), "KEEP="+string(keep), "NAMED="+named, "CLOSED="+closed)
			cmd.Stderr = os.Stderr
			out, err := cmd.Output()
			require.NoError(t, err)
			var got can
			require.NoError(t, json.NewDecoder(bufio.NewReader(strings.NewReader(string(out)))).Decode(&got))
			capabilities := strings.Fields(got.Capabilities)
			got.Capabilities = ""
			var wanted []string
			for word, is := range map[string]bool{"raw": c.keep.Frames, "search": c.keep.Read, "override": c.keep.Write} {
				if is {
					wanted = append(wanted, word)
				}
			}
			assert.ElementsMatch(t, wanted, capabilities)
			if !landlocked { // files are then what the user's rights leave
				got.ReadPlain, got.WriteHere, got.WriteNamed, got.WriteSystem, got.Connect = c.want.ReadPlain, c.want.WriteHere,
					c.want.WriteNamed, false, c.want.Connect
			}
			assert.Equal(t, c.want, got)
		})
	}
}

// abi is the version of Landlock that the kernel speaks; 0 if none.
func abi() int {
	const version = 1
	n, _, errno := unix.Syscall(unix.SYS_LANDLOCK_CREATE_RULESET, 0, 0, version)
	if errno != 0 {
		return 0
	}
	return int(n)
}
