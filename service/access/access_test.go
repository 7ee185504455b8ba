package access

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"bridgespan/core/fault"
	"bridgespan/model"
)

func TestPasswords(t *testing.T) {
	hash, err := hashPassword(t.Context(), "seven quiet herons")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.HasPrefix(hash, "$argon2id$v=19$m=") || strings.Contains(hash, "heron") {
		t.Errorf("hash %q", hash)
	}
	if again, _ := hashPassword(t.Context(), "seven quiet herons"); hash == again {
		t.Error("equal passwords have equal hashes")
	}
	for password, want := range map[string]bool{"seven quiet herons": true, "Seven quiet herons": false, "": false} {
		if right, err := matches(t.Context(), password, hash); err != nil || right != want {
			t.Errorf("%q matches: %v", password, !want)
		}
	}
	for _, bad := range []string{"", "x", "$argon2id$$$$", "$argon2id$v=19$m=a$s$k"} {
		if right, _ := matches(t.Context(), "x", bad); right {
			t.Errorf("a password matches the broken hash %q", bad)
		}
	}
	for password, ok := range map[string]bool{"ninechars": false, "ten charss": true, "ängstliche": true, strings.Repeat("x", 1025): false} {
		if err := checkPassword("password", password); (err == nil) != ok {
			t.Errorf("%.20q: %v", password, err)
		}
	}
}

func TestRequire(t *testing.T) {
	roles := []model.Role{model.Viewer, model.Operator, model.Administrator}
	for has, actor := range roles {
		ctx := WithActor(context.Background(), model.User{Name: "u", Role: actor})
		for needs, needed := range roles {
			if err := Require(ctx, needed); (err == nil) != (has >= needs) {
				t.Errorf("%s for %s: %v", actor, needed, err)
			}
		}
	}
	if fault.KindOf(Require(context.Background(), model.Viewer)) != fault.SignIn {
		t.Error("nobody may view")
	}
	unknown := WithActor(context.Background(), model.User{Role: "emperor"})
	if fault.KindOf(Require(unknown, model.Viewer)) != fault.Forbidden {
		t.Error("an unknown role may view")
	}
}

func ExampleRequire() {
	ctx := WithActor(context.Background(), model.User{Name: "ada", Role: model.Viewer})
	fmt.Println(Require(ctx, model.Operator))
	// Output: ada has the role viewer, and this needs the role operator; ask an administrator to do it or to give you that role
}
