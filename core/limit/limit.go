// Package limit holds in one place the bounds that keep hostile or broken
// input from using up the machine. Readers check counts against the bytes
// that are there first; these bounds catch what is left.
package limit

// Bounds on what a file may ask for.
const (
	Entries       = 4 << 20   // entries of one container
	NameBytes     = 1024      // bytes of one entry's path; longer names are shortened and reported
	PathBytes     = 1 << 30   // bytes of all paths of one source
	SegmentBytes  = 240       // bytes of one path segment: what common file systems hold, with room for a suffix
	EntryBytes    = 1 << 44   // unpacked bytes of one entry; entries are streamed
	MemoryBytes   = 1 << 30   // unpacked bytes of one entry that is held in memory
	Expansion     = 1100      // unpacked over packed bytes; DEFLATE reaches 1032 at most (RFC 1951)
	ExpansionFree = 1 << 20   // an entry up to this size may have any ratio
	PartExpansion = 100       // unpacked over packed bytes of a model's part in a package: XML of numbers packs 3 to 30 times
	PartFree      = 16 << 20  // such a part up to this size may have any ratio
	SpoolFree     = 1 << 30   // a packed stream without a declared size may unpack to this at any ratio
	MountDepth    = 8         // archives within archives
	FolderDepth   = 64        // folders within folders
	Texels        = 256 << 20 // of one picture
	PictureBytes  = 5 << 28   // of one picture, as its decoder holds it: 16 bits a channel take eight bytes a texel
	PictureRoom   = 3 << 29   // of all pictures that are being decoded at one time
	Nodes         = 1 << 20   // of one scene
	NodeDepth     = 4096      // nodes within nodes
	Vertices      = 256 << 20 // of one part
	Records       = 64 << 20  // of one table that a layout reads
	RecordNesting = 32        // records within records
	FormulaSteps  = 200_000   // script steps of one formula
	FormulaBytes  = 4_000     // letters of one condition of a pick
	LayoutSteps   = 50_000_000
	DocumentBytes = 4 << 20  // a layout, chain or target sheet
	DocumentDepth = 64       // nesting of such a document
	DocumentKeys  = 4096     // keys of one mapping of it
	NameListBytes = 64 << 20 // a list of names for hashes
	Commands      = 64 << 20 // of the command lists of one model
	VolumeSide    = 1024     // voxels along one side of a volume
	Crossings     = 16 << 20 // of surfaces and the lines through voxels' centres, along one axis
	VolumeFaces   = 8 << 20  // that a volume shows
	JSONBytes     = 256 << 20
)
