package service

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

const module = "ivytable.example/ivytable/"

// mayImport says which folders of the program a folder may import, itself and those below
// it included: who is not here may import nothing. The rooms under internal/workspace are
// in order: each may import those before it.
var mayImport = map[string][]string{
	"cmd/ivytable":                 {"internal/cli"},
	"internal/core":                {"internal/core"},
	"internal/store":               {"internal/core"},
	"internal/api":                 {"internal/core/policy"}, // its generator alone
	"internal/client":              {"internal/api"},
	"internal/workspace":           {"internal/api", "internal/core", "internal/store"},
	"internal/service":             {"internal/api", "internal/store", "internal/workspace"},
	"internal/httpapi":             {"internal/api", "internal/service", "internal/workspace"},
	"internal/mail":                {"internal/core", "internal/service", "internal/workspace"},
	"internal/work":                {"internal/mail", "internal/service", "internal/workspace"},
	"internal/localdb":             {"internal/localdb"},
	"internal/backup":              {"internal/store"},
	"internal/demo":                {"internal/api", "internal/core", "internal/demo/postoffice", "internal/localdb", "internal/mail", "internal/service", "internal/store", "internal/workspace"},
	"internal/demo/postoffice":     {},
	"internal/demo/resolver":       {},
	"internal/testkit":             {"internal/api", "internal/core", "internal/localdb/dbtest", "internal/service", "internal/store", "internal/workspace"},
	"internal/testkit/certificate": {},
	"internal/cli":                 {"console", "internal/backup", "internal/api", "internal/client", "internal/demo", "internal/httpapi", "internal/localdb", "internal/mail", "internal/service", "internal/store", "internal/work", "internal/workspace"},
	"console":                      {},
	"e2e":                          {"e2e/browser", "e2e/outside", "internal"},
}

var rooms = []string{"people", "pause", "history", "consistency", "account", "protection", "area", "attributes", "domains", "signing", "views", "naming", "member", "consent", "joining", "external", "public", "rules", "group", "life", "directory", "post", "reach", "bulk", "review", "round", "undo", "waiting"}

func under(path, folder string) bool { return path == folder || strings.HasPrefix(path, folder+"/") }

// TestImports holds that nothing imports upwards.
func TestImports(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, module+"...").Output()
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	if len(lines) < 30 {
		t.Fatalf("go list names %d packages", len(lines))
	}
	for _, line := range lines {
		all := strings.Fields(line)
		from, folder := strings.TrimPrefix(all[0], module), ""
		for k := range mayImport {
			if under(from, k) && len(k) > len(folder) {
				folder = k
			}
		}
		if folder == "" {
			t.Errorf("%s has no place in the order of folders", from)
		}
		room, isRoom := strings.CutPrefix(from, "internal/workspace/")
		if isRoom && !slices.Contains(rooms, room) {
			t.Errorf("%s has no place in the order of rooms", from)
		}
		for _, to := range all[1:] {
			to, ours := strings.CutPrefix(to, module)
			if !ours {
				continue
			}
			lower, toRoom := strings.CutPrefix(to, "internal/workspace/")
			switch {
			case isRoom && toRoom:
				if slices.Index(rooms, lower) >= slices.Index(rooms, room) {
					t.Errorf("the room %s imports %s, which stands above it", room, lower)
				}
			case isRoom && to == "internal/workspace":
			case from == "internal/workspace" && toRoom:
				t.Errorf("the kernel imports the room %s", lower)
			case !slices.ContainsFunc(mayImport[folder], func(ok string) bool { return under(to, ok) }):
				t.Errorf("%s imports %s", from, to)
			}
		}
	}
}

// TestChangesUseTheirChange holds that what is done in a change goes through it: not
// through who asked, the context or the kernel around it, which may be of another time or
// wait for a connection that nobody has.
func TestChangesUseTheirChange(t *testing.T) {
	files, err := filepath.Glob("../workspace/*/*.go")
	if err != nil || len(files) < 30 {
		t.Fatalf("%d files, %v", len(files), err)
	}
	changes := 0
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		set := token.NewFileSet()
		tree, err := parser.ParseFile(set, file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			switch f := n.(type) {
			case *ast.FuncLit:
				if takesChange(f.Type) {
					changes++
					for _, p := range outside(f.Body) {
						t.Errorf("%s: a change uses %s of what is around it", set.Position(p.Pos()), p.Name)
					}
				}
			case *ast.FuncDecl:
				if takesChange(f.Type) && f.Body != nil {
					for _, p := range outside(f.Body) {
						if p.Name == "k" {
							t.Errorf("%s: a change uses the kernel", set.Position(p.Pos()))
						}
					}
				}
			}
			return true
		})
	}
	if changes < 30 {
		t.Errorf("%d changes were found", changes)
	}
}

// takesChange reports whether a function makes a change.
func takesChange(f *ast.FuncType) bool {
	return slices.ContainsFunc(f.Params.List, func(p *ast.Field) bool {
		star, ok := p.Type.(*ast.StarExpr)
		if !ok {
			return false
		}
		sel, ok := star.X.(*ast.SelectorExpr)
		return ok && sel.Sel.Name == "Change"
	})
}

// outside returns where the body of a change names who asked (by), the context (ctx) or
// the kernel (k).
func outside(body ast.Node) []*ast.Ident {
	var out []*ast.Ident
	ast.Inspect(body, func(n ast.Node) bool {
		switch x := n.(type) {
		case *ast.SelectorExpr:
			if x.Sel.Name == "k" {
				out = append(out, x.Sel)
			}
			if id, ok := x.X.(*ast.Ident); ok && (id.Name == "by" || id.Name == "ctx") {
				out = append(out, id)
			}
			_, plain := x.X.(*ast.Ident)
			return !plain
		case *ast.KeyValueExpr:
			ast.Inspect(x.Value, func(n ast.Node) bool {
				if id, ok := n.(*ast.Ident); ok && (id.Name == "by" || id.Name == "ctx") {
					out = append(out, id)
				}
				return true
			})
			return false
		case *ast.Ident:
			if x.Name == "by" || x.Name == "ctx" {
				out = append(out, x)
			}
		}
		return true
	})
	return out
}
