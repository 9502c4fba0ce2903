package internal_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// allowed says which of the program's own packages each room may import, by prefix: the one direction of dependence, as ARCHITECTURE.md
// draws it.
var allowed = []struct {
	room string
	may  []string
}{
	{"internal/core/subnet", nil},
	{"internal/core/wiretext", nil},
	{"internal/core/rtt", nil},
	{"internal/core", []string{"internal/core"}},
	{"internal/nap", nil},
	{"internal/scenario/namespaces",
		[]string{"internal/core", "internal/machine", "internal/scenario", "internal/nap", "internal/responder"}},
	{"internal/scenario", []string{"internal/core"}},
	{"internal/machine/simulated",
		[]string{"internal/core", "internal/machine", "internal/scenario", "internal/leasefile", "internal/nap", "internal/responder"}},
	{"internal/responder", []string{"internal/core"}},
	{"internal/machine/linux", []string{"internal/core", "internal/machine", "internal/leasefile"}},
	{"internal/machine", []string{"internal/core", "internal/machine"}},
	{"internal/leasefile", []string{"internal/core", "internal/machine/wire"}},
	{"internal/capture", []string{"internal/core", "internal/machine/wire"}},
	{"internal/probe/plan", []string{"internal/core", "internal/machine", "internal/probe"}},
	{"internal/probe/watch", []string{"internal/core", "internal/machine", "internal/probe"}},
	{"internal/probe/neighbourwatch", []string{"internal/core", "internal/machine", "internal/probe"}},
	{"internal/probe", []string{"internal/core", "internal/machine"}},
	{"internal/conductor", []string{"internal/core", "internal/machine", "internal/probe"}},
	{"internal/draw", []string{"internal/core"}},
	{"internal/oui", []string{"internal/core"}},
	{"internal/sheetfile", []string{"internal/core"}},
	{"internal/report", []string{"internal/core", "internal/probe", "internal/draw", "internal/oui"}},
	{"internal/tui",
		[]string{"internal/core", "internal/conductor", "internal/machine", "internal/probe", "internal/report", "internal/draw",
			"internal/nap", "internal/capture", "internal/oui"}},
	{"cmd/passepartout", []string{"internal"}},
}

// The core computes: it reads no file, opens no socket, has no clock and draws nothing.
var notInCore = []string{"os", "net", "net/http", "io/fs", "os/exec", "syscall", "charm.land/", "golang.org/x/sys", "golang.org/x/net",
	"gvisor.dev", "github.com/"}

func TestDirectionOfImports(t *testing.T) {
	const module = "passepartout/"
	seen := 0
	for _, root := range []string{"../internal", "../cmd"} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			seen++
			place := strings.TrimPrefix(filepath.ToSlash(filepath.Dir(path)), "../")
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
			require.NoError(t, err)
			for _, spec := range file.Imports {
				name, err := strconv.Unquote(spec.Path.Value)
				require.NoError(t, err)
				if own, ok := strings.CutPrefix(name, module); ok {
					assert.True(t, mayImport(place, own), "%s imports %s", path, own)
				}
				if strings.HasPrefix(place, "internal/core") {
					for _, bad := range notInCore {
						assert.False(t, name == bad || strings.HasSuffix(bad, "/") && strings.HasPrefix(name, bad), "%s imports %s", path,
							name)
					}
				}
			}
			return nil
		})
		require.NoError(t, err)
	}
	assert.Greater(t, seen, 50, "the walk found the program")
}

func mayImport(place, own string) bool {
	for _, rule := range allowed {
		if !within(place, rule.room) {
			continue
		}
		for _, prefix := range rule.may {
			if within(own, prefix) {
				return true
			}
		}
		return false
	}
	return false
}

func within(path, room string) bool { return path == room || strings.HasPrefix(path, room+"/") }
