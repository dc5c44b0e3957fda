// Command mutants measures whether tests notice: it changes one operator, condition, bound or
// statement at a time, runs the tests that should see it, and prints what survived.
//
// Nothing is written into the tree: each mutant is compiled with an overlay. Mutants are drawn
// at random from a seed, so that each run can be repeated.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// target is a package with the tests that should notice changes of it.
type target struct{ dir, tests string }

var targets = []target{
	{"core/access", "core/access"}, {"core/decide", "core/decide"}, {"core/derive", "core/derive"},
	{"core/estate", "core/estate"},
	{"core/evidence", "core/evidence"}, {"core/expr", "core/expr"}, {"core/flow", "core/flow"},
	{"core/likeness", "core/likeness"},
	{"core/plan", "core/plan"}, {"core/plan/nft", "core/plan/nft"}, {"core/policy", "core/policy"},
	{"core/prove", "core/prove"},
	{"core/reach", "core/reach"}, {"core/report", "core/report"}, {"core/rollout", "core/rollout"},
	{"core/service", "core/service"},
	{"core/settle", "core/settle"}, {"core/watch", "core/watch"}, {"core/whatif", "core/whatif"},
	{"releasing", "releasing/..."}, {"releasing/plans", "releasing/plans"}, {"point", "point"},
	{"auditing/sql", "auditing/sql"},
}

// mutant replaces some octets of a file.
type mutant struct {
	file     string
	line     int
	from, to int
	text     string
	words    string
}

var operators = map[token.Token][]string{
	token.LSS: {"<=", ">="}, token.LEQ: {"<", ">"}, token.GTR: {">=", "<="}, token.GEQ: {">", "<"},
	token.EQL: {"!="}, token.NEQ: {"=="}, token.LAND: {"||"}, token.LOR: {"&&"},
	token.ADD: {"-"}, token.SUB: {"+"}, token.MUL: {"/"},
}

// mutantsOf lists all mutants of the files of a folder.
func mutantsOf(dir string) (out []mutant, err error) {
	files, err := filepath.Glob(filepath.Join(dir, "*.go"))
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, name, nil, 0)
		if err != nil {
			return nil, err
		}
		add := func(from, to token.Pos, text, words string) {
			out = append(out, mutant{name, set.Position(from).Line, set.Position(from).Offset, set.Position(to).Offset,
				text, words})
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.BinaryExpr:
				for _, o := range operators[n.Op] {
					if text, ok := n.X.(*ast.BasicLit); ok && text.Kind == token.STRING && n.Op == token.ADD {
						continue
					}
					add(n.OpPos, n.OpPos+token.Pos(len(n.Op.String())), o, n.Op.String()+" → "+o)
				}
			case *ast.BasicLit:
				if i, err := strconv.Atoi(n.Value); n.Kind == token.INT && err == nil && i > 1 {
					add(n.Pos(), n.End(), strconv.Itoa(i+1), n.Value+" → "+strconv.Itoa(i+1))
				}
			case *ast.IncDecStmt:
				add(n.Pos(), n.End(), "", "statement left out")
			case *ast.ExprStmt:
				add(n.Pos(), n.End(), "", "statement left out")
			case *ast.IfStmt:
				add(n.Cond.Pos(), n.Cond.Pos(), "!(", "condition reversed")
				out[len(out)-1].words += "\x00" + strconv.Itoa(set.Position(n.Cond.End()).Offset)
			}
			return true
		})
	}
	return out, err
}

func (m *mutant) apply(text []byte) string {
	if words, end, ok := strings.Cut(m.words, "\x00"); ok {
		to, _ := strconv.Atoi(end)
		m.words = words
		return string(text[:m.from]) + "!(" + string(text[m.from:to]) + ")" + string(text[to:])
	}
	return string(text[:m.from]) + m.text + string(text[m.to:])
}

// run reports whether the tests notice a mutant; made is false if it does not compile.
func (m *mutant) run(tests, dir string, patience time.Duration) (made, noticed bool) {
	text, err := os.ReadFile(m.file)
	if err != nil {
		panic(err)
	}
	changed := filepath.Join(dir, "mutant.go")
	overlay := filepath.Join(dir, "overlay.json")
	full, _ := filepath.Abs(m.file)
	table, _ := json.Marshal(map[string]map[string]string{"Replace": {full: changed}})
	if os.WriteFile(changed, []byte(m.apply(text)), 0o600) != nil || os.WriteFile(overlay, table, 0o600) != nil {
		panic("the mutant cannot be written")
	}
	if exec.Command("go", "build", "-overlay", overlay, "./"+filepath.Dir(m.file)).Run() != nil {
		return false, false
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, "go", "test", "-overlay", overlay, "-failfast", "-vet=off", "./"+tests)
	cmd.WaitDelay = time.Second
	return true, cmd.Run() != nil
}

func main() {
	each := flag.Int("each", 10, "mutants of each package")
	seed := flag.Uint64("seed", 1, "of the draw")
	only := flag.String("only", "", "packages whose path contains this")
	least := flag.Float64("least", 0.85, "share that has to be noticed")
	patience := flag.Duration("patience", 5*time.Minute, "for the tests of one mutant; one that never ends is noticed")
	flag.Parse()
	dir, err := os.MkdirTemp("", "mutants-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	all, killed := 0, 0
	for _, t := range targets {
		if !strings.Contains(t.dir, *only) {
			continue
		}
		list, err := mutantsOf(t.dir)
		if err != nil {
			panic(err)
		}
		r := rand.New(rand.NewPCG(*seed, uint64(len(t.dir))))
		r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		made, noticed := 0, 0
		for i := 0; i < len(list) && made < *each; i++ {
			ok, saw := list[i].run(t.tests, dir, *patience)
			if !ok {
				continue
			}
			made++
			if saw {
				noticed++
			} else {
				fmt.Printf("    %s:%d: %s\n", list[i].file, list[i].line, list[i].words)
			}
		}
		all, killed = all+made, killed+noticed
		fmt.Printf("%-16s %d of %d noticed\n", t.dir, noticed, made)
	}
	fmt.Printf("%d of %d mutants noticed: %.0f %%\n", killed, all, 100*float64(killed)/float64(max(all, 1)))
	if float64(killed) < *least*float64(all) {
		os.Exit(1)
	}
}
