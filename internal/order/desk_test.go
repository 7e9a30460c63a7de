package order

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"parallelpane/internal/blobs"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/keep"
	"parallelpane/internal/lab"
	"parallelpane/internal/results"
	"parallelpane/internal/secrets"
	"parallelpane/internal/store"
)

// counter is a desk with all that it needs, of a lab that knows one agent, which is
// away.
type counter struct {
	*Desk
	*keep.Keeper
	*results.Results
	lab     *lab.Lab
	t       *testing.T
	dir     string
	now     time.Time
	minFree uint64 // see keep.Config
}

func openCounter(t *testing.T, dir string) *counter {
	d := &counter{t: t, dir: dir, now: time.Date(2026, 3, 2, 6, 0, 0, 0, time.UTC)}
	d.open()
	t.Cleanup(func() { _ = d.close() })
	return d
}

// open opens the desk on what is on record.
func (d *counter) open() {
	st, err := store.Open(d.dir)
	require.NoError(d.t, err)
	require.NoError(d.t, st.Write(store.SaveAgent(store.Agent{Name: "quay", Instance: "quay",
		Machine: store.JSON(fleet.Machine{OS: "linux", Slots: 2,
			Browsers: []fleet.Browser{{Name: "chromium", Fits: true}, {Name: "firefox", Fits: true}}})})))
	bl, err := blobs.Open(filepath.Join(d.dir, "blobs"))
	require.NoError(d.t, err)
	seal, err := secrets.Open(d.dir, "")
	require.NoError(d.t, err)
	log, clock := slog.New(slog.DiscardHandler), func() time.Time { return d.now }
	d.Keeper = keep.New(keep.Config{Store: st, Blobs: bl, Log: log, Now: clock, Dir: d.dir, MinFree: d.minFree})
	d.lab, err = lab.New(lab.Config{Store: st, Blobs: bl, Keeper: d.Keeper, Log: log, Clock: clock})
	require.NoError(d.t, err)
	d.Desk = New(Config{Store: st, Blobs: bl, Lab: d.lab, Settings: d.Keeper, Seal: seal, Vault: secrets.NewVault(st, seal, clock),
		Log: log, Clock: clock})
	d.Results = results.New(st, bl, d.lab, d.Source)
	d.ReadFrom(d.Results)
	require.NoError(d.t, d.lab.TakeUp(d.t.Context(), d.Desk, time.Hour))
}

func (d *counter) close() error { return errors.Join(d.lab.Close(), d.store.Close()) }

// reopen closes what there is and opens it again.
func (d *counter) reopen() {
	require.NoError(d.t, d.close())
	d.open()
}

// bundle sends a project with so many tests.
func (d *counter) bundle(tests int) string { return d.wideBundle(tests, 1) }

// wideBundle sends one whose matrix has so many combinations of each of two
// browsers.
func (d *counter) wideBundle(tests, wide int) string {
	tariffs := make([]string, wide)
	for i := range tariffs {
		tariffs[i] = strconv.Itoa(i)
	}
	files := map[string]string{"pane.yaml": "project: saltmarsh\nsuites: {desk: {scripts: 't/*.pane.yaml'}}\n" +
		"matrices: {wall: {axes: {browser: [chromium, firefox], tariff: [" + strings.Join(tariffs, ", ") + "]}}}\nenvironments: {e: " +
		"{base: 'http://desk.example'}}\n"}
	for i := range tests {
		files[fmt.Sprintf("t/%03d.pane.yaml", i)] = fmt.Sprintf("name: Berth %03d\nsteps:\n  - visit: /\n", i)
	}
	return d.send(files)
}

// send sends files.
func (d *counter) send(files map[string]string) string {
	var buf bytes.Buffer
	zw := gzip.NewWriter(&buf)
	tw := tar.NewWriter(zw)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		require.NoError(d.t, tw.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Size: int64(len(files[name])), Mode: 0o644}))
		_, err := tw.Write([]byte(files[name]))
		require.NoError(d.t, err)
	}
	require.NoError(d.t, tw.Close())
	require.NoError(d.t, zw.Close())
	sum := sha256.Sum256(buf.Bytes())
	hash := hex.EncodeToString(sum[:])
	require.NoError(d.t, d.PutBundle(hash, &buf))
	return hash
}
