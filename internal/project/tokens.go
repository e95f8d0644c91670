package project

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"

	"excavate/core/disk"
)

// Tokens of devices lie in a file of their own that only its owner can read,
// not in the database, which is copied, dumped and looked at.

func (s *Devices) tokenFile() string { return filepath.Join(s.data, "tokens.json") }

// tokens reads the file, lets change edit it, and writes it. Other processes
// on the same folder wait meanwhile.
func (s *Devices) tokens(change func(map[string]string)) error {
	lock, err := os.OpenFile(s.tokenFile()+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := disk.Lock(lock); err != nil {
		return fmt.Errorf("lock %s: %w", lock.Name(), err)
	}
	all := map[string]string{}
	b, err := os.ReadFile(s.tokenFile())
	if err == nil {
		err = json.Unmarshal(b, &all)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("the tokens in %s: %w", s.tokenFile(), err)
	}
	before := len(all)
	old := asJSON(all)
	change(all)
	now := asJSON(all)
	if string(old) == string(now) && before == len(all) {
		return nil
	}
	return writeWhole(s.tokenFile(), now) // made with 0600
}

func (s *Devices) keepToken(device int64, token string) error {
	return s.tokens(func(all map[string]string) {
		if delete(all, strconv.FormatInt(device, 10)); token != "" {
			all[strconv.FormatInt(device, 10)] = token
		}
	})
}

func (s *Devices) tokenOf(device int64) (token string, err error) {
	err = s.tokens(func(all map[string]string) { token = all[strconv.FormatInt(device, 10)] })
	return token, err
}

// moveTokens takes tokens that earlier versions kept in the database out of it.
func (s *Devices) moveTokens(ctx context.Context) error {
	rows, err := s.store.DevicesWithTokens(ctx)
	if err != nil {
		return err
	}
	for _, r := range rows {
		if err := s.keepToken(r.ID, r.Token); err != nil {
			return err
		}
		if err := s.store.ForgetToken(ctx, r.ID); err != nil {
			return err
		}
	}
	return nil
}
