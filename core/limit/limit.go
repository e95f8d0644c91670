// Package limit holds in one place the bounds that keep hostile or broken
// input from using up the machine. Readers check counts against the bytes
// that are there first; these bounds catch what is left.
package limit

// Bounds on what a file may ask for.
const (
	Entries       = 4 << 20   // entries of one container
	NameBytes     = 1024      // bytes of one entry's path; longer names are shortened and reported
	SegmentBytes  = 240       // bytes of one path segment: what common file systems hold, with room for a suffix
	EntryBytes    = 4 << 30   // unpacked bytes of one entry that is held in memory
	Expansion     = 1100      // unpacked over packed bytes; DEFLATE reaches 1032 at most (RFC 1951)
	ExpansionFree = 1 << 20   // an entry up to this size may have any ratio
	Texels        = 256 << 20 // of one picture
	Nodes         = 1 << 20   // of one scene
	Vertices      = 256 << 20 // of one part
	Records       = 64 << 20  // of one table that a layout reads
	RecordNesting = 32        // records within records
	FormulaSteps  = 200_000   // script steps of one formula
	LayoutSteps   = 50_000_000
	DocumentBytes = 4 << 20 // a layout, chain or target sheet
	JSONBytes     = 256 << 20
)
