package linux

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/lease"
	"passepartout/internal/plainfile"
)

// tellManagers says who sets each interface again: by the files that managers keep of what they manage, which anybody may read, and for a
// client that keeps none by its process.
func tellManagers(e *endpoint.Endpoint) {
	for n := range e.Interfaces {
		i := &e.Interfaces[n]
		name := filepath.Base(i.Name)
		switch l, leased := e.Lease(i.Name); {
		case there(fmt.Sprintf("/run/NetworkManager/devices/%d", i.Index)):
			i.Manager = lease.NetworkManager
		case there(fmt.Sprintf("/run/systemd/netif/links/%d", i.Index)):
			i.Manager = lease.Networkd
		case runs("/run/dhcpcd/"+name+".pid", lease.Dhcpcd), runs("/run/dhcpcd/"+name+"-4.pid", lease.Dhcpcd),
			runs("/run/dhcpcd/pid", lease.Dhcpcd):
			i.Manager = lease.Dhcpcd
		case leased && l.Client == lease.Dhclient && serves(lease.Dhclient, i.Name):
			i.Manager = lease.Dhclient
		case there("/run/network/ifstate." + name):
			i.Manager = endpoint.Ifupdown
		}
	}
}

func there(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// runs reports whether the process of a file that says its number is there, and is that program: a file may have been left behind.
func runs(pidFile, program string) bool {
	text, err := plainfile.Read(pidFile, mostSettings)
	if err != nil {
		return false
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	return err == nil && pid > 0 && programOf(pid) == program
}

func programOf(pid int) string {
	text, _ := plainfile.Read(fmt.Sprintf("/proc/%d/comm", pid), mostSettings)
	return strings.TrimSpace(string(text))
}

// serves reports whether a client of DHCP runs for an interface: one of its arguments, and in this network.
func serves(program, iface string) bool {
	processes, err := os.ReadDir("/proc")
	if err != nil {
		return false
	}
	here, _ := os.Readlink("/proc/self/ns/net")
	for _, p := range processes {
		pid, err := strconv.Atoi(p.Name())
		if err != nil || programOf(pid) != program {
			continue
		}
		if net, err := os.Readlink(fmt.Sprintf("/proc/%d/ns/net", pid)); err == nil && net != here {
			continue // where that is not told, it is taken to be here
		}
		text, err := plainfile.Read(fmt.Sprintf("/proc/%d/cmdline", pid), mostSettings)
		if err != nil {
			continue
		}
		if args := strings.Split(strings.TrimRight(string(text), "\x00"), "\x00"); slices.Contains(args[1:], iface) {
			return true
		}
	}
	return false
}
