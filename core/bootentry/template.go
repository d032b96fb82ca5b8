package bootentry

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"text/template"
	"text/template/parse"

	"jugate/core/answers"
	"jugate/core/fault"
)

// Values are what a template can name: the answers of a workstation by their keys, and what Facts adds. A key that has no value is
// nil.
type Values map[string]any

// Names of the values that are no answers.
const (
	OfWorkstation = "workstation"      // its name in the roster
	OfAddress     = "hardware_address" // of the card that it boots by
	OfSerial      = "serial_number"
	OfModel       = "model"
	AnswerURL     = "answer_file" // where its answer file is
	EndURL        = "ended"       // what tells the service, when it is fetched, that the boot entry has done its work
	Parameters    = "parameter"   // by name
)

var facts = []string{OfWorkstation, OfAddress, OfSerial, OfModel, AnswerURL, EndURL, Parameters}

// NewValues are the answers of one workstation, as what a template can name.
func NewValues(s *answers.Settings) (Values, error) {
	text, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	var set map[string]any
	if err := json.Unmarshal(text, &set); err != nil {
		return nil, err
	}
	v := Values{Parameters: map[string]any{}}
	for _, name := range Names() {
		if value, is := set[name]; is {
			v[name] = value
		} else if v[name] == nil {
			v[name] = nil
		}
	}
	if accounts, is := v["accounts"].([]any); is { // installers take a hash
		for i, a := range accounts {
			account := a.(map[string]any)
			for _, key := range []string{"full_name", "ssh_keys", "administrator"} {
				if _, is := account[key]; !is {
					account[key] = nil
				}
			}
			account["password_hash"] = s.Accounts[i].Hash()
			delete(account, "password")
		}
	}
	return v, nil
}

// Names are what a template can name.
func Names() (all []string) {
	for _, k := range answers.Keys {
		all = append(all, k.Name)
	}
	return append(all, facts...)
}

// Unused are the answers that are set, and that a template does not name.
func (v Values) Unused(named Named) (all []string) {
	for _, k := range answers.Keys {
		if v[k.Name] != nil && !slices.Contains(named.Values, k.Name) {
			all = append(all, k.Name)
		}
	}
	return all
}

// Kind is what a template makes.
type Kind int

// The kinds of templates.
const (
	// Line is the words of a kernel's command line: each value is one word.
	Line Kind = iota
	// AnswerFile is a text in which each value is part of a line.
	AnswerFile
)

// Limits of templates.
const (
	maxTemplate = 64 << 10  // bytes
	maxText     = 256 << 10 // bytes that it makes
	maxLine     = 1500      // bytes of words; the kernel takes 2047, and adds of its own
	maxDepth    = 2         // of lists in lists
)

// Check refuses a template that makes no sense, whatever the values are: the error, a fault.Invalid, names the place. Secrets
// cannot be on a kernel's command line, which others can read on its way.
func (k Kind) Check(text string, parameters []string) error {
	_, _, err := k.parse(text, parameters)
	return err
}

// Named is what a template names.
type Named struct {
	Values []string // answers and facts
	Needed []string // parameters that are put in as they are, so that they have to have a value
}

// Named is what a template names that Check has passed.
func (k Kind) Named(text string, parameters []string) Named {
	_, named, err := k.parse(text, parameters)
	if err != nil {
		return Named{}
	}
	return named
}

// Render fills a template in. A value that is named and has nothing set, is more than a line, or more than a word in a Line, is an
// error (a fault.Conflict), as is what it cannot be.
func (k Kind) Render(text string, v Values) (string, error) {
	given, _ := v[Parameters].(map[string]any)
	names := make([]string, 0, len(given))
	for name := range given {
		names = append(names, name)
	}
	t, _, err := k.parse(text, names)
	if err != nil {
		return "", err
	}
	var out bytes.Buffer
	if err := t.Execute(&bounded{&out, maxText}, map[string]any(v)); err != nil {
		return "", fault.Conflict.Errorf("%s", plainly(err))
	}
	if k == AnswerFile {
		return out.String(), nil
	}
	line := strings.Join(strings.Fields(out.String()), " ")
	switch {
	case len(line) > maxLine:
		return "", fault.Conflict.Errorf("the kernel's words are longer than %d bytes", maxLine)
	case strings.ContainsFunc(line, func(r rune) bool { return r < ' ' || r == 0x7f || r == '\'' }):
		return "", fault.Conflict.Errorf("the kernel's words have a quote (') or what is no letter")
	}
	return line, nil
}

// bounded is a writer that takes so many bytes.
type bounded struct {
	io.Writer
	left int
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.left -= len(p); b.left < 0 {
		return 0, fmt.Errorf("it makes more than %d bytes", maxText)
	}
	return b.Writer.Write(p)
}

// plainly is an error of a template without the parts that are not about it.
func plainly(err error) string {
	var inner template.ExecError
	text := err.Error()
	if errors.As(err, &inner) {
		text = inner.Err.Error()
	}
	text = strings.TrimPrefix(text, "template: ")
	if _, rest, is := strings.Cut(text, "error calling told: "); is {
		text = rest
	}
	return strings.ReplaceAll(text, "map has no entry for key", "there is nothing called")
}

// functions are all that templates can call, with those of the language that cannot grow.
var functions = template.FuncMap{
	"shell":    func(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" },
	"json":     func(v any) (string, error) { b, err := json.Marshal(v); return string(b), err },
	"base64":   func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) },
	"join":     join,
	"keyboard": func(s string) string { layout, _, _ := strings.Cut(s, "("); return layout },
	"variant":  func(s string) string { _, v, _ := strings.Cut(s, "("); return strings.TrimSuffix(v, ")") },
}

// builtIn are the functions of the language that may be called.
var builtIn = []string{"and", "or", "not", "eq", "ne", "len", "index"}

func join(list any, between string) (string, error) {
	items, is := list.([]any)
	if !is {
		return "", errors.New("join takes a list")
	}
	var all []string
	for _, i := range items {
		all = append(all, fmt.Sprint(i))
	}
	return strings.Join(all, between), nil
}

// parse reads a template and has each of its values checked where it is put in.
func (k Kind) parse(text string, parameters []string) (*template.Template, Named, error) {
	if len(text) > maxTemplate {
		return nil, Named{}, fault.Invalid.Errorf("it is larger than %d KiB", maxTemplate>>10)
	}
	all := template.FuncMap{"told": k.told}
	for name, f := range functions {
		all[name] = f
	}
	t, err := template.New("line").Funcs(all).Option("missingkey=error").Parse(text)
	if err != nil {
		return nil, Named{}, fault.Invalid.Errorf("%s", plainly(err))
	}
	if t.Tree == nil { // it is empty
		t, err = template.New("line").Parse("")
		return t, Named{}, err
	}
	if len(t.Templates()) > 1 {
		return nil, Named{}, fault.Invalid.Errorf("a template cannot define others")
	}
	w := walker{kind: k, parameters: parameters}
	if err := w.list(t.Tree.Root, true); err != nil {
		where, _ := t.Tree.ErrorContext(w.at)
		return nil, Named{}, fault.Invalid.Errorf("%s: %v", where, err)
	}
	return t, w.named, nil
}

// told is at the end of whatever puts a value in.
func (k Kind) told(what string, v any) (string, error) {
	if v == nil {
		return "", fmt.Errorf("%s has no value; set it, or write {{with %s}}…{{end}} around it", what, what)
	}
	if _, is := v.([]any); is {
		return "", fmt.Errorf("%s is a list; write {{range %s}}…{{end}}, or join it", what, what)
	}
	text := fmt.Sprint(v)
	bad := func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }
	if k == Line {
		bad = func(r rune) bool { return r <= ' ' || r == 0x7f || strings.ContainsRune(`'"\`, r) }
	}
	if strings.ContainsFunc(text, bad) {
		if k == Line {
			return "", fmt.Errorf("%s is more than one word (or has a quote) and cannot be on a kernel's command line", what)
		}
		return "", fmt.Errorf("%s is more than one line; write it with base64 or json", what)
	}
	return text, nil
}

// walker goes through a template.
type walker struct {
	kind       Kind
	parameters []string
	named      Named
	depth      int
	at         parse.Node
}

// list walks nodes; root tells that the dot is what Values has.
func (w *walker) list(l *parse.ListNode, root bool) error {
	if l == nil {
		return nil
	}
	for _, n := range l.Nodes {
		w.at = n
		var err error
		switch n := n.(type) {
		case *parse.TextNode, *parse.CommentNode:
		case *parse.ActionNode:
			if err = w.pipe(n.Pipe, root); err == nil && len(n.Pipe.Decl) == 0 {
				w.needs(n.Pipe, root)
				what := &parse.StringNode{NodeType: parse.NodeString, Pos: n.Pos, Quoted: "value", Text: n.Pipe.String()}
				n.Pipe.Cmds = append(n.Pipe.Cmds, &parse.CommandNode{NodeType: parse.NodeCommand, Pos: n.Pos, Args: []parse.Node{parse.NewIdentifier("told").SetPos(n.Pos), what}})
			}
		case *parse.IfNode:
			err = w.branch(&n.BranchNode, root, root)
		case *parse.WithNode:
			err = w.branch(&n.BranchNode, root, false)
		case *parse.RangeNode:
			if w.depth++; w.depth > maxDepth {
				return fmt.Errorf("lists are in lists that are in lists")
			}
			if len(n.Pipe.Cmds) != 1 || len(n.Pipe.Cmds[0].Args) != 1 || n.Pipe.Cmds[0].Args[0].Type() == parse.NodeNumber {
				return errors.New("range takes a list that has a name")
			}
			err = w.branch(&n.BranchNode, root, false)
			w.depth--
		default:
			err = fmt.Errorf("%s cannot be in a template here", n)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (w *walker) branch(b *parse.BranchNode, root, inside bool) error {
	if err := w.pipe(b.Pipe, root); err != nil {
		return err
	}
	if err := w.list(b.List, inside); err != nil {
		return err
	}
	return w.list(b.ElseList, root)
}

func (w *walker) pipe(p *parse.PipeNode, root bool) error {
	for _, c := range p.Cmds {
		for _, a := range c.Args {
			if err := w.argument(a, root); err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *walker) argument(n parse.Node, root bool) error {
	switch n := n.(type) {
	case *parse.IdentifierNode:
		if functions[n.Ident] == nil && !slices.Contains(builtIn, n.Ident) {
			return fmt.Errorf("there is no function %s here", n.Ident)
		}
	case *parse.FieldNode:
		if root {
			return w.name(n.Ident)
		}
	case *parse.VariableNode:
		if n.Ident[0] == "$" && len(n.Ident) > 1 {
			return w.name(n.Ident[1:])
		}
	case *parse.ChainNode:
		return w.argument(n.Node, root)
	case *parse.PipeNode:
		return w.pipe(n, root)
	}
	return nil
}

// needs notes a parameter that is put in as it is.
func (w *walker) needs(p *parse.PipeNode, root bool) {
	if f, is := p.Cmds[0].Args[0].(*parse.FieldNode); is && root && len(f.Ident) == 2 && f.Ident[0] == Parameters {
		w.named.Needed = append(w.named.Needed, f.Ident[1])
	}
}

// name notes what is named, and refuses what nothing is called.
func (w *walker) name(ident []string) error {
	if !slices.Contains(Names(), ident[0]) {
		return fmt.Errorf("%q is not an answer, nor anything else that a template can name: %s", ident[0], strings.Join(Names(), ", "))
	}
	if k := answers.Find(ident[0]); w.kind == Line && k != nil && k.Secret {
		return fmt.Errorf("%s has secrets, which others could read on a kernel's command line", ident[0])
	}
	w.named.Values = append(w.named.Values, ident[0])
	if ident[0] == Parameters && len(ident) > 1 && !slices.Contains(w.parameters, ident[1]) {
		return fmt.Errorf("the boot entry has no parameter %q", ident[1])
	}
	return nil
}
