package workspace

import (
	"ivytable.example/ivytable/internal/core/rule"
)

// OwnSetting is the name under which the attributes of the organisation's own are kept.
const OwnSetting = "attributes"

// OwnAttribute is an attribute of people that the organisation keeps of its own.
type OwnAttribute struct {
	Name  string `json:"name"`
	Label string `json:"label"`
	Kind  string `json:"kind"` // text, number, boolean, day
	Seen  bool   `json:"seen"` // colleagues see it of each other
}

// Rule is the attribute as rules and filters know it.
func (a OwnAttribute) Rule() rule.Own {
	kind, _ := rule.ParseOwnKind(a.Kind) // was checked when it was declared
	return rule.Own{Name: a.Name, Label: a.Label, Kind: kind}
}

// OwnAttributes returns what the organisation keeps of its own.
func (v *View) OwnAttributes() ([]OwnAttribute, error) {
	if v.own == nil {
		own := []OwnAttribute{}
		if _, err := v.Read.CachedSetting(OwnSetting, &own); err != nil {
			return nil, err
		}
		v.own = append([]OwnAttribute{}, own...)
	}
	return v.own, nil
}

// Own is OwnAttributes as rules and filters know them.
func (v *View) Own() ([]rule.Own, error) {
	all, err := v.OwnAttributes()
	out := make([]rule.Own, len(all))
	for i, a := range all {
		out[i] = a.Rule()
	}
	return out, err
}

// FieldNames returns the names under which the directory keeps attributes of people: those of SCIM,
// then those of the organisation's own.
func (v *View) FieldNames() ([]string, error) {
	out := rule.FieldNames()
	own, err := v.Own()
	for _, o := range own {
		out = append(out, o.Name)
	}
	return out, err
}
