package project_test

import (
	"encoding/json"
	"fmt"
	"reflect"
	"testing"

	"excavate/internal/project"
)

// selects is how many queries the database's server has answered so far.
func (d *desk) selects() (n int) {
	d.t.Helper()
	var name string
	d.try(d.Store.DB.QueryRow("SHOW GLOBAL STATUS LIKE 'Com_select'").Scan(&name, &n))
	return n
}

// manyFinds makes finds of a source without decoding them: of each model it
// holds one, and the rest of entries that it holds no more.
func (d *desk) manyFinds(src int64, n int, model []byte) {
	d.t.Helper()
	paths := []string{}
	for _, r := range d.find(project.Filter{Kind: "model"}) {
		paths = append(paths, r.Path)
	}
	for len(paths) < n {
		paths = append(paths, fmt.Sprintf("gone/thing_%d.hull", len(paths)))
	}
	tx, err := d.Store.DB.Begin()
	d.try(err)
	for i, p := range paths[:n] {
		_, err := tx.Exec(`INSERT INTO finds
			(project_id, source_id, source_label, entry_path, name, state, scene, model)
			VALUES (?, ?, 'hulls.tide', ?, ?, 'ready', 'x', ?)`, d.id, src, p, fmt.Sprintf("thing %d", i), model)
		d.try(err)
	}
	d.try(tx.Commit())
	d.try(d.Store.TouchProject(d.ctx, d.id))
}

// The list says of each find what asking for it alone says, in a few queries,
// however many there are.
func TestManyFinds(t *testing.T) {
	d := open(t)
	src := d.add("hulls.tide")
	d.manyFinds(src, 400, []byte(`{"format": "hull"}`))
	for _, name := range []string{"one", "two"} {
		_, err := d.Store.DB.Exec(`INSERT INTO chains (project_id, find_id, name, target)
			SELECT ?, MIN(id), ?, 'gltf-engine' FROM finds`, d.id, name)
		d.try(err)
	}
	list, err := d.Finds.List(d.ctx, d.id)
	d.try(err)
	if len(list) != 400 || len(list[0].Chains) != 2 || list[0].Entry == 0 || list[399].Entry != 0 {
		t.Fatalf("%d finds, the first %+v", len(list), list[0])
	}
	for i := range list {
		alone, err := d.Finds.Found(d.ctx, list[i].ID)
		d.try(err)
		if !reflect.DeepEqual(*alone, list[i]) {
			t.Fatalf("find %d: %+v in the list, %+v alone", i, list[i], *alone)
		}
	}
	before := d.selects()
	_, err = d.Finds.List(d.ctx, d.id)
	d.try(err)
	_, err = d.Finds.Gallery(d.ctx, d.id)
	d.try(err)
	if n := d.selects() - before; n > 60 { // others look for work meanwhile
		t.Errorf("%d queries for two lists of 400 finds", n)
	}
	if _, err := d.Finds.Found(d.ctx, 99999); err == nil {
		t.Error("a find that is not there is found")
	}
}

func BenchmarkFinds(b *testing.B) {
	d := open(b)
	src := d.add("hulls.tide")
	stats := map[string]any{"triangles": 1200, "bones": 70, "pictures": 3, "height": 1.75,
		"size": []float64{1, 1.75, 0.5}}
	model, err := json.Marshal(map[string]any{"format": "hull", "stats": stats, "notes": make([]string, 20),
		"readings": make([]string, 100)})
	d.try(err)
	d.manyFinds(src, 5000, model)
	b.Run("list", func(b *testing.B) {
		for b.Loop() {
			if list, err := d.Finds.List(d.ctx, d.id); err != nil || len(list) != 5000 {
				b.Fatal(err)
			}
		}
	})
	b.Run("gallery", func(b *testing.B) {
		for b.Loop() {
			if list, err := d.Finds.Gallery(d.ctx, d.id); err != nil || len(list) != 5000 {
				b.Fatal(err)
			}
		}
	})
}
