package access

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"time"

	"golang.org/x/crypto/argon2"

	"bridgespan/core/fault"
)

// Argon2id parameters (RFC 9106, section 4, and the usual advice for
// interactive use): 19 MiB, two passes, one lane.
const (
	mostPassword = 1024      // bytes
	argonMemory  = 19 * 1024 // KiB
	argonPasses  = 2
	argonLanes   = 1
	argonKey     = 32
	argonSalt    = 16
)

// hashing bounds how many passwords are worked on at once: each takes 19 MiB. Who waits
// for that longer than waitMost is told to come again.
var hashing = make(chan struct{}, 4)

const waitMost = 10 * time.Second

// MinPassword is the shortest password accepted, in characters.
const MinPassword = 10

func checkPassword(field, password string) error {
	if n := len([]rune(password)); n < MinPassword {
		return fault.Field(field, fmt.Sprintf("use at least %d characters; a few unrelated words are good", MinPassword), "the password has %d characters", n)
	}
	if len(password) > mostPassword {
		return fault.Field(field, "use at most 1024 bytes", "the password is too long")
	}
	return nil
}

// hashPassword returns the usual text form, $argon2id$v=19$m=…,t=…,p=…$salt$key.
func hashPassword(ctx context.Context, password string) (string, error) {
	salt := make([]byte, argonSalt)
	_, _ = rand.Read(salt)
	b64 := base64.RawStdEncoding
	key, err := derive(ctx, password, salt, argonMemory, argonPasses, argonLanes)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonPasses, argonLanes,
		b64.EncodeToString(salt), b64.EncodeToString(key)), err
}

func derive(ctx context.Context, password string, salt []byte, memory, passes uint32, lanes uint8) ([]byte, error) {
	timeout := time.NewTimer(waitMost)
	defer timeout.Stop()
	select {
	case hashing <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-timeout.C:
		return nil, fault.New(fault.Throttled, "try again in a moment", "too many sign-ins are under way")
	}
	defer func() { <-hashing }()
	return argon2.IDKey([]byte(password), salt, passes, memory, lanes, argonKey), nil
}

// matches compares a password with a hash made with any parameters. It returns an error
// when it could not be compared in time.
func matches(ctx context.Context, password, hash string) (bool, error) {
	parts := strings.Split(hash, "$")
	var memory, passes uint32
	var lanes uint8
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, nil
	}
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &lanes); err != nil {
		return false, nil
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	key, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false, nil
	}
	made, err := derive(ctx, password, salt, memory, passes, lanes)
	return err == nil && subtle.ConstantTimeCompare(made, key) == 1, err
}
