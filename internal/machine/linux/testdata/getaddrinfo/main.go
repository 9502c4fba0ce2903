// Command getaddrinfo asks the system's own library for the addresses of a name, for tests: it prints what the library returned, and the
// addresses.
package main

/*
#define _GNU_SOURCE
#include <netdb.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <arpa/inet.h>
#include <netinet/in.h>

static int look(const char *name, char *out, int room) {
	struct addrinfo hints = {0}, *list = 0, *a;
	hints.ai_family = AF_UNSPEC;
	hints.ai_socktype = SOCK_STREAM;
	int r = getaddrinfo(name, 0, &hints, &list), n = 0;
	out[0] = 0;
	if (r != 0)
		return r;
	for (a = list; a; a = a->ai_next) {
		void *from = a->ai_family == AF_INET ? (void *)&((struct sockaddr_in *)a->ai_addr)->sin_addr
			: (void *)&((struct sockaddr_in6 *)a->ai_addr)->sin6_addr;
		if (n + 64 > room || !inet_ntop(a->ai_family, from, out + n, 60))
			break;
		while (out[n])
			n++;
		out[n++] = ' ';
		out[n] = 0;
	}
	freeaddrinfo(list);
	return 0;
}
*/
import "C"

import (
	"fmt"
	"os"
	"unsafe"
)

func main() {
	name := C.CString(os.Args[1])
	defer C.free(unsafe.Pointer(name))
	var out [4096]C.char
	fmt.Println(C.look(name, &out[0], C.int(len(out))), C.GoString(&out[0]))
}
