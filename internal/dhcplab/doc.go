// Package dhcplab proves the reading of leases and exchanges against the real thing: real clients ask real servers in kernel namespaces,
// through a relay where one is wanted, while every frame is captured. All of it is tests; they need root and the programs that
// scripts/test-tools.sh installs.
package dhcplab
