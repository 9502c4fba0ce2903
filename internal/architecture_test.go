package internal_test

import (
	"go/ast"
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
	{"internal/nap", []string{"internal/nap"}},
	{"internal/guard", nil},
	{"internal/privilege", nil},
	{"internal/locale", nil},
	{"internal/plainfile", []string{"internal/core/wiretext"}},
	{"internal/scenario/namespaces",
		[]string{"internal/core", "internal/machine", "internal/scenario", "internal/nap", "internal/responder"}},
	{"internal/scenario", []string{"internal/core"}},
	{"internal/machine/simulated",
		[]string{"internal/core", "internal/machine", "internal/scenario", "internal/leasefile", "internal/nap", "internal/responder"}},
	{"internal/responder", []string{"internal/core"}},
	{"internal/machine/linux", []string{"internal/guard", "internal/core", "internal/machine", "internal/leasefile", "internal/plainfile"}},
	{"internal/machine", []string{"internal/guard", "internal/core", "internal/machine"}},
	{"internal/leasefile", []string{"internal/core", "internal/machine/wire"}},
	{"internal/capture", []string{"internal/core", "internal/machine"}},
	{"internal/acting", []string{"internal/guard", "internal/core", "internal/machine", "internal/probe"}},
	{"internal/probe/plan", []string{"internal/guard", "internal/nap", "internal/core", "internal/machine", "internal/probe"}},
	{"internal/probe/watch", []string{"internal/guard", "internal/nap", "internal/core", "internal/machine", "internal/probe"}},
	{"internal/probe/neighbourwatch", []string{"internal/guard", "internal/core", "internal/machine", "internal/probe"}},
	{"internal/probe/exchangewatch", []string{"internal/guard", "internal/core", "internal/machine", "internal/capture"}},
	{"internal/probe/socketwatch", []string{"internal/guard", "internal/core", "internal/machine"}},
	{"internal/probe", []string{"internal/guard", "internal/nap", "internal/core", "internal/machine"}},
	{"internal/conductor", []string{"internal/guard", "internal/nap", "internal/core", "internal/machine", "internal/probe"}},
	{"internal/draw", []string{"internal/core", "internal/plainfile"}},
	{"internal/casefile", []string{"internal/guard", "internal/core", "internal/plainfile"}},
	{"internal/oui", []string{"internal/core"}},
	{"internal/sheetfile", []string{"internal/core", "internal/plainfile"}},
	{"internal/report", []string{"internal/core", "internal/probe", "internal/draw", "internal/oui", "internal/plainfile"}},
	{"internal/tui",
		[]string{"internal/acting", "internal/core", "internal/conductor", "internal/machine", "internal/probe", "internal/report",
			"internal/draw",
			"internal/nap", "internal/guard", "internal/locale", "internal/capture", "internal/oui", "internal/plainfile"}},
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

// Whatever the program starts beside itself gives the terminal back if it comes to grief.
func TestGoroutinesAreGuarded(t *testing.T) {
	guarded := 0
	for _, root := range []string{"probe", "conductor", "casefile", "tui", "machine/shared", "machine/linux"} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			files := token.NewFileSet()
			file, err := parser.ParseFile(files, path, nil, 0)
			require.NoError(t, err)
			ast.Inspect(file, func(n ast.Node) bool {
				var body ast.Expr
				switch x := n.(type) {
				case *ast.GoStmt:
					body = x.Call.Fun
				case *ast.CallExpr:
					if s, ok := x.Fun.(*ast.SelectorExpr); ok && s.Sel.Name == "Go" && len(x.Args) == 1 {
						body = x.Args[0]
					}
				}
				if body == nil {
					return true
				}
				guarded++
				f, ok := body.(*ast.FuncLit)
				if assert.True(t, ok, "%s: not a function of its own", files.Position(n.Pos())) {
					first, ok := f.Body.List[0].(*ast.DeferStmt)
					assert.True(t, ok && isGuard(first.Call.Fun), "%s: does not begin with: defer guard.Goroutine()",
						files.Position(n.Pos()))
				}
				return true
			})
			return nil
		})
		require.NoError(t, err)
	}
	assert.Greater(t, guarded, 30, "the walk found them")
}

func isGuard(f ast.Expr) bool {
	s, ok := f.(*ast.SelectorExpr)
	if !ok {
		return false
	}
	pkg, ok := s.X.(*ast.Ident)
	return ok && pkg.Name == "guard" && s.Sel.Name == "Goroutine"
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
