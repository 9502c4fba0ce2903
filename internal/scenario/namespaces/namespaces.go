// Package namespaces builds a scenario as Linux network namespaces: real kernels' stacks, real dnsmasq, a real web server. It is for tests:
// it proves that the simulated sites tell the truth. It needs root, or a user namespace in which the process is root.
package namespaces
