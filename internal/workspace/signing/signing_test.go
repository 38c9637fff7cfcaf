package signing_test

import (
	"context"
	"errors"
	"net"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/service"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

var (
	ctx = context.Background()
	k   *kit.Kit
)

func TestMain(m *testing.M) { kit.Main(m, "signing", &k, nil) }

const domain = "merrowline.example"

// Keys come and go: nothing is signed with one until it is used, one is used at a time, and that one can't be deleted.
func TestRotation(t *testing.T) {
	l := k.Fresh(t, "signing_rotation")
	ines := l.Actor(t, kit.Administrator)
	using := func() string {
		key, err := l.Signing.KeyFor(ctx, "elsewhere.example", strings.ToUpper(domain))
		if err != nil {
			t.Fatal(err)
		}
		if key == nil {
			return ""
		}
		return key.Selector
	}
	first, second := kit.First(l.Signing.Make(ctx, ines, domain)), kit.First(l.Signing.Make(ctx, ines, domain))
	if first.Selector == second.Selector || first.Record == second.Record || using() != "" {
		t.Fatalf("%+v, %+v, in use %q", first, second, using())
	}
	if _, err := l.Signing.Use(ctx, ines, domain, first.Selector); err != nil || using() != first.Selector {
		t.Fatalf("the first: in use %q, %v", using(), err)
	}
	if err := l.Signing.Delete(ctx, ines, domain, first.Selector); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("the one that is used could be deleted: %v", err)
	}
	if _, err := l.Signing.Use(ctx, ines, domain, second.Selector); err != nil || using() != second.Selector {
		t.Errorf("the second: in use %q, %v", using(), err)
	}
	if err := l.Signing.Delete(ctx, ines, domain, first.Selector); err != nil {
		t.Error(err)
	}
	if all, err := l.Signing.Keys(ctx, ines, domain); err != nil || len(all.Items) != 1 || !all.Items[0].Used {
		t.Errorf("left: %+v, %v", all.Items, err)
	}
	for range 4 {
		kit.First(l.Signing.Make(ctx, ines, domain))
	}
	if _, err := l.Signing.Make(ctx, ines, domain); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("a sixth: %v", err)
	}
}

// names answers as a resolver.
type names map[string][]string

func (n names) LookupMX(_ context.Context, name string) ([]*net.MX, error) {
	if name == "lost.merrowline.example." {
		return nil, &net.DNSError{Err: "i/o timeout", Name: name, IsTimeout: true}
	}
	return []*net.MX{{Host: "mx." + name, Pref: 10}}, nil
}

func (n names) LookupTXT(_ context.Context, name string) ([]string, error) {
	if t, ok := n[strings.TrimSuffix(name, ".")]; ok {
		return t, nil
	}
	return nil, &net.DNSError{Err: "no such host", Name: name, IsNotFound: true}
}

func TestCheck(t *testing.T) {
	l := k.Fresh(t, "signing_check")
	pool, err := store.Open(ctx, l.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer pool.Close()
	published := names{domain: {"v=spf1 mx -all"}, "_dmarc." + domain: {"v=DMARC1; p=none"}}
	s, err := service.New(ctx, pool, workspace.Options{Resolver: published, Now: l.Now})
	if err != nil {
		t.Fatal(err)
	}
	ines := l.Actor(t, kit.Administrator)
	states := func() (out string) {
		d, err := s.Signing.Check(ctx, ines, domain)
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range d.Items {
			out += x.Part + " " + x.State + " "
		}
		return out
	}
	if got := states(); got != "mx well spf well dkim missing dmarc well " {
		t.Errorf("without a key: %s", got)
	}
	key := kit.First(s.Signing.Make(ctx, ines, domain))
	if got := states(); got != "mx well spf well dkim missing dkim missing dmarc well " {
		t.Errorf("with one that is not published: %s", got)
	}
	published[key.Name] = []string{key.Record}
	if _, err := s.Signing.Use(ctx, ines, domain, key.Selector); err != nil {
		t.Fatal(err)
	}
	if got := states(); got != "mx well spf well dkim well dmarc well " {
		t.Errorf("with one that is: %s", got)
	}
	delete(published, "_dmarc."+domain)
	if got := states(); !strings.HasSuffix(got, "dmarc missing ") {
		t.Errorf("without a policy: %s", got)
	}
	var e *workspace.Error
	if _, err := s.Signing.Check(ctx, ines, "elsewhere.example"); !errors.As(err, &e) || e.Kind != workspace.NotFound {
		t.Errorf("another domain: %v", err)
	}
}
