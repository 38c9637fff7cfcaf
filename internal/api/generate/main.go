// Command generate writes the shapes of a policy from the table of its settings in
// core/policy. It is run by go generate; a test says when it has to be.
package main

import (
	"bytes"
	"fmt"
	"go/format"
	"os"
	"strings"

	"ivytable.example/ivytable/internal/core/policy"
)

//go:generate go run . ../policy.gen.go

func main() {
	b, err := Source()
	if err == nil {
		err = os.WriteFile(os.Args[1], b, 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// object is a JSON object of the policy half, by its key; "" for the half itself.
type object struct {
	key, name string
	settings  []policy.Description
}

// Source returns the generated file.
func Source() ([]byte, error) {
	all := []*object{{"", "PolicyHalf", nil}}
	for _, d := range policy.Describe() {
		key, _, nested := strings.Cut(d.Path, ".")
		if !nested {
			key = ""
		}
		var to *object
		for _, o := range all {
			if o.key == key {
				to = o
			}
		}
		if to == nil {
			to = &object{key: key, name: map[string]string{"policy": "Answers", "join": "Join"}[key]}
			if to.name == "" {
				to.name = goName(key)
			}
			all = append(all, to)
		}
		to.settings = append(to.settings, d)
	}
	var b bytes.Buffer
	b.WriteString("// Code generated from the table of settings in core/policy. DO NOT EDIT.\n\npackage api\n\n")
	for _, patch := range []bool{false, true} {
		for _, o := range all {
			name, about := o.name, "is part of the policy half of a group"
			if o.key == "" {
				about = "is the policy half of a group"
			}
			if patch {
				name, about = strings.TrimSuffix(o.name, "Half")+"Patch", strings.Replace(about, "is ", "is any part of ", 1)
				about = strings.Replace(about, "any part of part", "any part of this part", 1)
			}
			fmt.Fprintf(&b, "// %s %s.\ntype %s struct {\n", name, about, name)
			omit, star := "", ""
			if patch {
				omit, star = ",omitempty", "*"
			}
			if o.key == "" {
				values, doc := "members,workspace,anyone,mixed", "The plain summary of find, see_people and read"
				if patch {
					values, doc = "members,workspace,anyone", "Fills in find, see_people and read"
				}
				fmt.Fprintf(&b, "\tPrivacy string `json:\"privacy%s\" enum:%q doc:%q`\n", omit, values, doc)
				for _, sub := range all[1:] {
					sname := sub.name
					if patch {
						sname += "Patch"
					}
					fmt.Fprintf(&b, "\t%s %s%s `json:\"%s%s\"`\n", goName(sub.key), star, sname, sub.key, omit)
				}
			}
			for _, d := range o.settings {
				var values []string
				for _, c := range d.Choices {
					values = append(values, c.Name)
				}
				fmt.Fprintf(&b, "\t%s string `json:\"%s%s\" enum:%q doc:%q`\n", goName(last(d.Path)), last(d.Path), omit, strings.Join(values, ","), d.Asks)
			}
			b.WriteString("}\n\n")
		}
	}
	b.WriteString("// NewPolicyHalf makes the policy half of a group; get returns the value of a setting by\n// its name, and the privacy.\nfunc NewPolicyHalf(get func(name string) string) PolicyHalf {\n\tvar h PolicyHalf\n\th.Privacy = get(\"privacy\")\n")
	for _, d := range policy.Describe() {
		fmt.Fprintf(&b, "\th.%s = get(%q)\n", field(d.Path), d.Name)
	}
	b.WriteString("\treturn h\n}\n\n// Each calls f with every setting of a patch that has a value, the privacy first.\nfunc (p PolicyPatch) Each(f func(name, value string)) {\n\tset := func(name, value string) {\n\t\tif value != \"\" {\n\t\t\tf(name, value)\n\t\t}\n\t}\n\tset(\"privacy\", p.Privacy)\n")
	for _, o := range all {
		if o.key != "" {
			fmt.Fprintf(&b, "\tif p.%s != nil {\n", goName(o.key))
		}
		for _, d := range o.settings {
			fmt.Fprintf(&b, "\tset(%q, p.%s)\n", d.Name, field(d.Path))
		}
		if o.key != "" {
			b.WriteString("}\n")
		}
	}
	b.WriteString("}\n\n// Set gives a setting of a patch, or the privacy, a value by its name. It reports whether\n// there is such a setting; whether there is such a value the service says.\nfunc (p *PolicyPatch) Set(name, value string) bool {\n\tswitch name {\n\tcase \"privacy\":\n\t\tp.Privacy = value\n")
	for _, o := range all {
		for _, d := range o.settings {
			fmt.Fprintf(&b, "\tcase %q:\n", d.Name)
			if o.key != "" {
				fmt.Fprintf(&b, "\t\tif p.%s == nil {\n\t\t\tp.%s = &%sPatch{}\n\t\t}\n", goName(o.key), goName(o.key), o.name)
			}
			fmt.Fprintf(&b, "\t\tp.%s = value\n", field(d.Path))
		}
	}
	b.WriteString("\tdefault:\n\t\treturn false\n\t}\n\treturn true\n}\n")
	b.WriteString("\n// PolicyNames are the names that Set knows, in the order in which they are shown.\nvar PolicyNames = []string{\"privacy\", ")
	for _, d := range policy.Describe() {
		fmt.Fprintf(&b, "%q, ", d.Name)
	}
	b.WriteString("}\n")
	return format.Source(b.Bytes())
}

func last(path string) string { return path[strings.LastIndexByte(path, '.')+1:] }

func field(path string) string {
	parts := strings.Split(path, ".")
	for i := range parts {
		parts[i] = goName(parts[i])
	}
	return strings.Join(parts, ".")
}

// goName makes a Go name of one of JSON: see_people becomes SeePeople.
func goName(name string) string {
	var b strings.Builder
	for part := range strings.SplitSeq(name, "_") {
		b.WriteString(strings.ToUpper(part[:1]) + part[1:])
	}
	return b.String()
}
