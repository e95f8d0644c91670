package store_test

import (
	"context"
	"encoding/json"
	"os"
	"reflect"
	"testing"

	"excavate/internal/store/db"

	"github.com/pressly/goose/v3"
)

// What a receiver said of a delivery is kept when the schema goes to the form
// that has it by asset, and back.
func TestWhatReceiversSaidIsKeptByMigrations(t *testing.T) {
	ctx := context.Background()
	st, project := open(t)
	find, err := st.CreateFind(ctx, db.CreateFindParams{ProjectID: project, Name: "punt", SourceLabel: "s",
		EntryPath: "p"})
	if err != nil {
		t.Fatal(err)
	}
	chain, err := st.CreateChain(ctx, db.CreateChainParams{ProjectID: project, FindID: find, Name: "c"})
	if err != nil {
		t.Fatal(err)
	}
	id, err := st.CreateDelivery(ctx, db.CreateDeliveryParams{ProjectID: project, ChainID: chain, Name: "punt.zip",
		Purpose: "myself", Options: []byte("{}"), Also: []byte("[]")})
	if err != nil {
		t.Fatal(err)
	}
	sent := `{"receiver": "x", "state": "taken", "seconds": 1.5, "taken": [{"asset": "punt", "seen": "abc",
		"report": {"log": [{"code": "PV01"}], "walk": {"places": 3}}, "outcomes": [{"rule": "ground"}]}]}`
	if err := st.DeliveryReady(ctx, db.DeliveryReadyParams{File: "f", Size: 1, Manifest: []byte(`{"asset": "punt"}`),
		Also: []byte("[]"), ID: id}); err != nil {
		t.Fatal(err)
	}
	if err := st.DeliverySent(ctx, db.DeliverySentParams{Sent: []byte(sent), ID: id}); err != nil {
		t.Fatal(err)
	}
	p, err := goose.NewProvider(goose.DialectMySQL, st.DB, os.DirFS("migrations"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.DownTo(ctx, 8); err != nil {
		t.Fatal(err)
	}
	type said struct {
		Seen     string
		Report   struct{ Walk struct{ Places int } }
		Outcomes []struct{ Rule string }
		State    string
		Seconds  float64
		Taken    []struct {
			Asset, Seen string
			Report      struct{ Walk struct{ Places int } }
			Outcomes    []struct{ Rule string }
		}
	}
	now := func() (x said) {
		t.Helper()
		var b []byte
		if err := st.DB.QueryRow("SELECT sent FROM deliveries WHERE id = ?", id).Scan(&b); err != nil {
			t.Fatal(err)
		}
		if err := json.Unmarshal(b, &x); err != nil {
			t.Fatalf("%s: %v", b, err)
		}
		return x
	}
	var want said
	if err := json.Unmarshal([]byte(sent), &want); err != nil {
		t.Fatal(err)
	}
	if x := now(); x.Seen != "abc" || x.Report.Walk.Places != 3 || len(x.Outcomes) != 1 || x.State != "taken" {
		t.Errorf("before it is %+v", x)
	}
	if _, err := p.Up(ctx); err != nil {
		t.Fatal(err)
	}
	if x := now(); !reflect.DeepEqual(x.Taken, want.Taken) || x.Seconds != 1.5 {
		t.Errorf("%+v, want %+v", x, want)
	}
}
