package point

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"

	"lucidorchard/core/plan"
	"lucidorchard/core/rollout"
)

// agentDisk keeps what the agent has loaded over a restart.
type agentDisk struct{ *Agent }

// keptState is what is on the disk: what was loaded and proved, and the latest order.
type keptState struct {
	Instructions
	At rollout.Mark `json:"at"`
}

// keptBefore is what versions kept that knew one release at a point.
type keptBefore struct {
	ID       string     `json:"id"`
	Release  int        `json:"release"`
	Mode     string     `json:"mode"`
	Rules    string     `json:"rules"`
	Again    int        `json:"again"`
	PutsBack bool       `json:"putsBack"`
	Estate   int64      `json:"estate"`
	Plan     *plan.Plan `json:"plan"`
}

func (a agentDisk) file() string { return filepath.Join(a.State, "told.json") }

// kept reads what is on the disk; nil without an error: there is nothing.
func (a agentDisk) kept() (*Instructions, rollout.Mark, error) {
	if a.State == "" {
		return nil, rollout.Mark{}, nil
	}
	raw, err := os.ReadFile(a.file())
	if errors.Is(err, os.ErrNotExist) {
		return nil, rollout.Mark{}, nil
	}
	var k keptState
	if err == nil {
		err = json.Unmarshal(raw, &k)
	}
	if err != nil {
		return nil, k.At, err
	}
	if len(k.parts()) > 0 {
		return &k.Instructions, k.At, nil
	}
	var old keptBefore
	if err := json.Unmarshal(raw, &old); err != nil {
		return nil, k.At, err
	}
	if old.Release == 0 {
		return &k.Instructions, k.At, nil
	}
	t := Instructions{ID: old.ID, Again: old.Again, PutsBack: old.PutsBack, Estate: old.Estate}
	part := &Assignment{Release: old.Release, ID: old.ID, Rules: old.Rules, Plan: old.Plan}
	if old.Mode == rollout.Enforce {
		t.Enforces = part
	} else {
		t.Observes = part
	}
	return &t, k.At, nil
}

// keep writes what is loaded to the disk, whole or not at all.
func (a agentDisk) keep(t *Instructions) error {
	if a.State == "" {
		return nil
	}
	raw, err := json.Marshal(keptState{*t, a.said.At})
	if err != nil {
		return err
	}
	return writeWhole(a.file(), raw)
}

// writeWhole replaces a file in one step. A kill or a full disk leaves the former one.
func writeWhole(name string, raw []byte) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(name), filepath.Base(name)+"-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) //nolint:errcheck // after Rename it is not there
	if _, err = f.Write(raw); err == nil {
		err = f.Sync()
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), name)
}

const cannotKeep = "what is loaded cannot be kept for a restart: "

// keepOrSay keeps what is loaded. What fails is tried again with every beat.
func (a agentDisk) keepOrSay(t *Instructions) {
	err := a.keep(t)
	a.unkept = err != nil
	switch {
	case err != nil:
		a.Log.Error("what is loaded cannot be kept for a restart", "error", err)
		if a.said.State == "holds" {
			a.said.Words = cannotKeep + err.Error()
		}
	case a.said.State == "holds":
		a.said.Words = ""
	}
}
