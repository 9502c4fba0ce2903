package endpoint_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/endpoint"
)

func TestWaysOfNames(t *testing.T) {
	const file, dns = endpoint.ByHostsFile, endpoint.ByDNS
	for text, want := range map[string][]endpoint.Way{
		"":                                     {file, dns},
		"passwd: files\n#hosts: dns\n":         {file, dns},
		"hosts: files dns":                     {file, dns},
		"hosts: dns files":                     {dns, file},
		"hosts:files dns # files":              {file, dns},
		"hosts: files":                         {file},
		"hosts:":                               nil,
		"hosts: files [NOTFOUND=return] dns":   {file},
		"hosts: files [notfound=RETURN]dns":    {file},
		"hosts: files [UNAVAIL=return] dns":    {file, dns},
		"hosts: files [!SUCCESS=return] dns":   {file},
		"hosts: files [ NOTFOUND=return ] dns": {file},
		"hosts: files [UNAVAIL=continue NOTFOUND=return] dns":                                        {file},
		"hosts: [NOTFOUND=return] files dns":                                                         {file, dns},
		"hosts: dns [!UNAVAIL=return] files":                                                         {dns},
		"hosts: resolve [!UNAVAIL=return] dns":                                                       {dns},
		"hosts: files myhostname mdns4_minimal [NOTFOUND=return] resolve [!UNAVAIL=return] dns wins": {file, dns},
		"hosts: files [SUCCESS=continue] dns":                                                        {file, dns},
		"hosts: files\nhosts: dns":                                                                   {dns},
	} {
		e := endpoint.Endpoint{Switching: endpoint.ParseSwitching(strings.NewReader(text))}
		assert.Equal(t, want, e.NameWays(), text)
	}
}
