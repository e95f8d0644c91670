// Package project does the work behind the interface: it keeps a project's
// sources open, indexes them, decodes finds, runs chains and makes
// deliveries, with the computation of core, the database and the blobs. Long
// work goes through the queue.
//
// It comes in parts, one for each thing that a porter works on. A part knows
// those that it builds on and none of those that build on it:
//
//	Scenes       stored scenes, and what is computed of one
//	Libraries    the layouts and formats that a project reads with
//	Sources      what is mounted, its entries, what stands for which name
//	Devices      live outside systems that give sources
//	Extractions  taking entries out
//	Finds        decoding entries, and where a find came from
//	Layouts      layouts of a project, and reading its entries by them
//	Sheets       target sheets
//	Chains       chains and their runs
//	Rehearsals   what a target would say, and mending it
//	Deliveries   packages, and sending them
//	Projects     projects as a whole: files, copies, recipes
//	Bin          what was taken out, and putting it back
//	Jobs         what is under way, and what ended otherwise than well
package project

import (
	"context"
	"sync"

	"excavate/core/find"
	"excavate/core/target"
	"excavate/internal/blob"
	"excavate/internal/device"
	"excavate/internal/store"
	"excavate/internal/work"
)

// Config says with what and where a service works.
type Config struct {
	Store     *store.Store
	Blobs     *blob.Folder
	Lib       *find.Library
	Targets   map[string]*target.Sheet
	Pool      *work.Pool
	Library   []string // folders that sources may be added from
	Data      string   // folder for what the service keeps beside the database
	Outputs   []string // folders that may be extracted to, besides its own
	Hosts     []string // that devices and receivers may be on, besides loopback
	Receivers []string // addresses that deliveries can be sent to
	Version   string
}

// Service is one process' view of all projects.
type Service struct {
	Scenes      *Scenes
	Libraries   *Libraries
	Sources     *Sources
	Devices     *Devices
	Extractions *Extractions
	Finds       *Finds
	Layouts     *Layouts
	Sheets      *Sheets
	Chains      *Chains
	Rehearsals  *Rehearsals
	Deliveries  *Deliveries
	Projects    *Projects
	Bin         *Bin
	Jobs        *Jobs

	Version string // of the program
}

// New makes a service whole, registers its work with the pool, and readies the
// folders beside the database.
func New(ctx context.Context, c Config) (*Service, error) {
	g := &common{
		store: c.Store, blobs: c.Blobs, lib: c.Lib, targets: c.Targets, pool: c.Pool, library: c.Library,
		data: c.Data, outputs: c.Outputs, hosts: c.Hosts, version: c.Version,
	}
	if err := g.tidy(); err != nil {
		return nil, err
	}
	s := &Service{Version: c.Version}
	s.Scenes = &Scenes{common: g, cache: newSceneCache(g.blobs)}
	s.Libraries = &Libraries{common: g, libs: map[int64]library{}}
	s.Sources = &Sources{
		common: g, libraries: s.Libraries, shelf: newShelf(g.store),
		open: map[int64]opened{}, turns: map[int64]*sync.Mutex{}, changes: map[int64]change{},
	}
	s.Devices = &Devices{
		common: g, sources: s.Sources, clients: map[int64]*device.Client{}, offered: map[int64][][]device.Offer{},
	}
	s.Extractions = &Extractions{common: g, sources: s.Sources}
	s.Finds = &Finds{common: g, scenes: s.Scenes, libraries: s.Libraries, sources: s.Sources}
	s.Layouts = &Layouts{common: g, scenes: s.Scenes, libraries: s.Libraries, sources: s.Sources}
	s.Sheets = &Sheets{common: g, scenes: s.Scenes}
	s.Chains = &Chains{common: g, scenes: s.Scenes, finds: s.Finds, sheets: s.Sheets}
	s.Rehearsals = &Rehearsals{common: g, scenes: s.Scenes, finds: s.Finds, sheets: s.Sheets, chains: s.Chains}
	s.Deliveries = &Deliveries{
		common: g, scenes: s.Scenes, libraries: s.Libraries, sources: s.Sources, extractions: s.Extractions,
		finds: s.Finds, sheets: s.Sheets, chains: s.Chains, rehearsals: s.Rehearsals, receivers: c.Receivers,
	}
	s.Projects = &Projects{
		common: g, sources: s.Sources, layouts: s.Layouts, sheets: s.Sheets, chains: s.Chains,
		rehearsals: s.Rehearsals, deliveries: s.Deliveries,
	}
	s.Bin = &Bin{common: g, sources: s.Sources, finds: s.Finds, layouts: s.Layouts}
	s.Jobs = &Jobs{common: g, deliveries: s.Deliveries}

	g.pool.Ended = s.Jobs.ended
	for kind, do := range map[string]work.Handler{
		"index": s.Sources.doIndex, "links": s.Sources.doLinks,
		"recognise": s.Layouts.doRecognise, "cover": s.Layouts.doCover,
		"extract": s.Extractions.doExtract, "pull": s.Devices.doPull,
		"decode": s.Finds.doDecode, "findall": s.Finds.doFindAll,
		"run": s.Chains.doRun, "deliver": s.Deliveries.doDeliver, "send": s.Deliveries.doSend,
	} {
		g.pool.Handle(kind, do)
	}
	g.pool.Help("findall", s.Finds.helpFindAll)
	return s, s.Devices.moveTokens(ctx)
}
