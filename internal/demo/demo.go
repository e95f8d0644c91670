// Package demo makes the demo data: the files of a made-up game about the
// ferry village of Sedgewater, in the game's own formats. Everything is
// generated here, and the same bytes come out each time.
package demo

import (
	"archive/zip"
	"bytes"
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"excavate/standin/console"
)

// Chain is the demo's chain document.
//
//go:embed chain.yaml
var Chain []byte

// Names of the demo's archives, in the search order of the demo project. The
// third is not mounted at first.
var Archives = []string{"hulls.tide", "washes.tide", "winter.tide"}

// Files returns the demo's files by name.
func Files(target []byte) map[string][]byte {
	terms := []byte("Owner: Sedgewater Lantern Company\nThe files of this game are for private use. Changed copies may be shown, not passed on.\n")
	hulls := []PackEntry{
		{"licence.txt", terms, packStored},
		{"figures/ferry_keeper.hull", ferryKeeper().hull(), packZlib},
		{"fauna/heron.hull", heron().hull(), packLZ4},
		{"boats/punt.hull", punt().hull(), packLZ4},
		{"houses/stilt_house.hull", stiltHouse().hull(), packZlib},
	}
	for i, line := range []string{"The tide mill turns twice a day.", "Mind the third plank.", "Herons do not tip."} {
		hulls = append(hulls, PackEntry{fmt.Sprintf("text/lines_%02d.txt", i+1), []byte(strings.Repeat(line+"\n", 20)), packZlib})
	}
	washes := []PackEntry{
		{"licence.txt", terms, packStored},
		{"wash/keeper/keeper_cloth_c.wash", wash(keeperCloth(), washBC1), packZlib},
		{"wash/boats/punt_c.wash", wash(planks(3, wood, 7), wash5551), packLZ4},
		{"wash/houses/boards_c.wash", wash(planks(4, rgb{0.55, 0.50, 0.43}, 11), wash5551), packZlib},
		{"wash/houses/reed_c.wash", wash(reedThatch(), washIndexed), packZlib},
		{"wash/fauna/heron_c.wash", wash(heronBrass(), washBC1), packLZ4},
	}
	winter := []PackEntry{
		{"wash/keeper/keeper_gear_c.wash", wash(keeperGear(), washIndexed), packLZ4},
		{"wash/boats/punt_frost_c.wash", wash(planks(7, rgb{0.66, 0.70, 0.74}, 7), wash5551), packZlib},
		{"text/winter.txt", []byte("When the channel freezes the ferry is a sledge.\n"), packStored},
	}
	files := map[string][]byte{
		"hulls.tide": Pack(hulls), "washes.tide": Pack(washes), "winter.tide": Pack(winter),
		"harbour.zip": zipped(map[string][]byte{"pontoon.glb": pontoonGLB(), "read me.txt": []byte("A pontoon, made for the harbour by hand.\n")}),
		"village.zip": zipped(map[string][]byte{"stilt_village.glb": villageGLB(), "reed_o.png": pngBytes(reedOpacity()),
			"licence.txt": []byte("Owner: Village council of Sedgewater\nCC-BY-4.0\n")}),
		"workshop.zip":      zipped(workshop()),
		"levels.zip":        zipped(levels()),
		"weir_house.yaml":   WeirHouse,
		"chain.yaml":        Chain,
		"village.yaml":      VillageChain,
		"hut_blocks.yaml":   HutBlocks,
		"punt_rework.yaml":  PuntRework,
		"heron_bricks.yaml": HeronBricks,
		"corin.yaml":        Corin,
		"keeper_back.yaml":  KeeperBack,

		"keeper_strolls.yaml": KeeperStrolls,
		"lantern.cart":        console.Cartridge(), // the game on the console's cartridge
		"sluice.bin":          Mystery(),           // nobody has described it yet
	}
	if target != nil {
		files["target.yaml"] = target
	}
	return files
}

// Write puts the demo's files into a folder. A file that is there with the
// same bytes is left alone.
func Write(dir string, target []byte) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for name, data := range Files(target) {
		path := filepath.Join(dir, name)
		if old, err := os.ReadFile(path); err == nil && bytes.Equal(old, data) {
			continue
		}
		if err := os.WriteFile(path+".part", data, 0o644); err != nil {
			return err
		}
		if err := os.Rename(path+".part", path); err != nil {
			return err
		}
	}
	return nil
}

func zipped(files map[string][]byte) []byte {
	var names []string
	for n := range files {
		names = append(names, n)
	}
	sort.Strings(names)
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	for _, n := range names {
		w, err := z.Create(n)
		if err != nil {
			panic(err) // memory only
		}
		w.Write(files[n])
	}
	z.Close()
	return buf.Bytes()
}
