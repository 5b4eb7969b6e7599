package main

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/trail"
)

// Names of the files that hold the key that signs the trail, in the data folder.
const (
	keyFile    = "shop.key"
	publicFile = "shop.pub"       // its public half, for `verify-trail --key`
	comingKey  = keyFile + ".new" // the key that follows, until the trail has it
)

// errKey tells that the key in the data folder is not the one that signs this trail.
var errKey = errors.New("the key that signs the trail is not as it should be")

// keyTrail is what the key is held against.
type keyTrail interface {
	// NewestSigned is the newest entry that is signed, nil for none.
	NewestSigned() (*trail.Entry, error)
	// NewestKey is the newest entry that changed the key, nil for none.
	NewestKey() (*trail.Entry, error)
}

// shopKey reads the key that signs the trail. The first time, when nothing is signed yet, it makes
// one. A key that is gone, that is another one than the trail's, or that its public half does not
// belong to, is refused: signing on with it would break the trail for good.
func shopKey(data string, t keyTrail) (ed25519.PrivateKey, error) {
	if err := finishNewKey(data, t); err != nil {
		return nil, err
	}
	newest, err := t.NewestSigned()
	if err != nil {
		return nil, err
	}
	key, err := readPrivate(filepath.Join(data, keyFile))
	if errors.Is(err, fs.ErrNotExist) && newest == nil {
		return makeKey(data)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf(
			"%w: %s is gone, and the trail has entries signed with it, the newest number %d. Nothing was changed. Put it back from a copy of the data folder; or, where it is lost, begin anew as the lead: jadetrail new-key --anew --who LEAD --reason WHY",
			errKey, keyFile, newest.Seq,
		)
	}
	if err != nil {
		return nil, err
	}
	if newest != nil && !signedWith(newest, key) {
		return nil, fmt.Errorf(
			"%w: %s did not sign the trail's newest entry, number %d. Nothing was changed. Put the right key back from a copy of the data folder; or, where it is lost, begin anew as the lead: jadetrail new-key --anew --who LEAD --reason WHY",
			errKey, keyFile, newest.Seq,
		)
	}
	public := publicOf(key)
	said, err := os.ReadFile(filepath.Join(data, publicFile))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return key, disk.WriteDurably(filepath.Join(data, publicFile), []byte(public+"\n"))
	case err != nil:
		return nil, err
	case strings.TrimSpace(string(said)) != public:
		return nil, fmt.Errorf(
			"%w: %s does not belong to %s. Nothing was changed. Put the right one back from a copy of the data folder; where %[3]s is right, take %[2]s away: it is then written anew",
			errKey, publicFile, keyFile,
		)
	}
	return key, nil
}

func publicOf(key ed25519.PrivateKey) string {
	public, _ := key.Public().(ed25519.PublicKey)
	return base64.StdEncoding.EncodeToString(public)
}

// signedWith tells that a trail goes on with a key after its newest entry: it was signed with it, or
// says that it follows.
func signedWith(e *trail.Entry, key ed25519.PrivateKey) bool {
	if e.Act == trail.ActKey && e.Key != nil {
		return e.Key.New == publicOf(key)
	}
	raw, err := base64.StdEncoding.DecodeString(e.Signature)
	public, _ := key.Public().(ed25519.PublicKey)
	return err == nil && ed25519.Verify(public, []byte(e.Hash), raw)
}

func readPrivate(path string) (ed25519.PrivateKey, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	seed, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(b)))
	if err != nil || len(seed) != ed25519.SeedSize {
		return nil, fmt.Errorf(
			"%w: %s does not hold a key. Nothing was changed. Put it back from a copy of the data folder", errKey,
			filepath.Base(path),
		)
	}
	return ed25519.NewKeyFromSeed(seed), nil
}

// makeKey makes the first key of a shop.
func makeKey(data string) (ed25519.PrivateKey, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	if err := writeKey(filepath.Join(data, keyFile), key); err != nil {
		return nil, err
	}
	return key, disk.WriteDurably(filepath.Join(data, publicFile), []byte(publicOf(key)+"\n"))
}

// writeKey writes a key for its owner alone.
func writeKey(path string, key ed25519.PrivateKey) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(base64.StdEncoding.EncodeToString(key.Seed()) + "\n")
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close(), disk.SyncDir(filepath.Dir(path)))
}

// finishNewKey puts a key in its place that the trail has already, and takes away one that it does
// not have: the change was cut short.
func finishNewKey(data string, t keyTrail) error {
	coming := filepath.Join(data, comingKey)
	key, err := readPrivate(coming)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil { // it was cut while it was written
		return os.Remove(coming)
	}
	last, err := t.NewestKey()
	if err != nil {
		return err
	}
	if last == nil || last.Key == nil || last.Key.New != publicOf(key) {
		return os.Remove(coming)
	}
	if err := os.Rename(coming, filepath.Join(data, keyFile)); err != nil {
		return err
	}
	return errors.Join(
		disk.SyncDir(data), disk.WriteDurably(filepath.Join(data, publicFile), []byte(publicOf(key)+"\n")),
	)
}

// newKeyCmd changes the key that signs the trail.
func newKeyCmd() *cobra.Command {
	var who, reason string
	var anew bool
	c := &cobra.Command{Use: "new-key --who LEAD --reason WHY [--anew]", Short: "Sign the trail with another key from now on; the former signs that over, or with --anew is lost",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			data := dataFolder()
			st, leave, err := enterShop(data)
			if err != nil {
				return err
			}
			defer leave()
			entry, err := newKey(data, st, who, reason, anew)
			if err != nil {
				return err
			}
			fmt.Fprintf(
				out(),
				"From entry %q on the trail is signed with another key. Its public half is in %s; keep a copy of %s.\n",
				entry, publicFile, keyFile,
			)
			return nil
		}}
	c.Flags().StringVar(&who, "who", "", "login of the lead whose act it is")
	c.Flags().StringVar(&reason, "reason", "", "why")
	c.Flags().BoolVar(&anew, "anew", false, "the former key is lost")
	return c
}

// newKey makes a new key, enters it in the trail, and puts it in the place of the former.
func newKey(data string, st *store.Store, login, reason string, anew bool) (string, error) {
	lead, err := st.Lead(login)
	if err != nil {
		return "", errUse{fmt.Errorf(
			"a new key is an act of a lead, and %q is none: %w. Nothing was changed", login, err,
		)}
	}
	if strings.TrimSpace(reason) == "" {
		return "", errUse{errors.New("a new key needs a reason. Nothing was changed")}
	}
	public := ed25519.PublicKey{}
	if anew {
		if b, err := readKey(filepath.Join(data, publicFile)); err == nil {
			public = b // what it was, for the entries before
		}
	} else {
		if st.Key, err = shopKey(data, st); err != nil {
			return "", err
		}
		public, _ = st.Key.Public().(ed25519.PublicKey)
	}
	_, fresh, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	if err := writeKey(filepath.Join(data, comingKey), fresh); err != nil {
		return "", err
	}
	text := "The trail is signed with another key from now on; the former key signs that"
	if anew {
		st.Key, text = fresh, "The signing of the trail begins anew: the former key is lost"
	}
	e := trail.Entry{
		ID: "e-key-" + time.Now().UTC().Format("20060102-150405.000000"), Time: time.Now(), Who: lead.Name,
		Act: trail.ActKey, Reason: strings.TrimSpace(reason), Text: text, Key: trail.NewKey(public, fresh, anew),
	}
	if err := st.Append(e); err != nil {
		return "", err
	}
	return e.ID, finishNewKey(data, st)
}
