package workspace

import (
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
)

// Public is what the workspace shows on the internet of groups that anyone may find.
type Public struct {
	Pages bool `json:"pages"` // each has a page there
	List  bool `json:"list"`  // which stand in a list, too
}

// PublicSetting is the name under which it is kept.
const PublicSetting = "public"

// Public returns what the workspace shows on the internet, and its version. Nothing is shown until
// somebody says so.
func (v *View) Public() (p Public, version int, err error) {
	version, err = v.Read.Setting(PublicSetting, &p)
	return p, version + 1, err
}

// pages reports whether the workspace has public pages. What can't be read shows nothing.
func (v *View) pages() bool {
	if v.open == nil {
		p, _, err := v.Public()
		on := err == nil && p.Pages
		v.open = &on
	}
	return *v.open
}

// Visitor is somebody who is not signed in, as permission sees them.
func (v *View) Visitor() access.Subject { return access.Subject{Visitor: v.pages()} }

// OnTheInternet reports whether a group has a public page.
func (v *View) OnTheInternet(g *store.Group) bool {
	return !v.Ended(g) && v.Visitor().May(access.ReadGroup, access.RelationOf(0, false, true), &g.Policy)
}

// Doubts returns what of a policy is allowed but doubtful, also because of what the workspace says.
func (v *View) Doubts(p policy.Policy) []*fault.Fault {
	out := p.Warnings()
	if p[policy.Find] == policy.Anyone && !v.pages() {
		out = append(out, &fault.Fault{Field: policy.Find.String(), Says: "Anyone may find it, but the workspace has no public pages: nobody outside can find it or join it by themselves.",
			Mend: "Have an administrator switch public pages on, or let the workspace find it."})
	}
	return out
}
