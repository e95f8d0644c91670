// Package disk is what the systems say and do differently about disks: how
// much is free, locks that go with their process, and one flush for all.
package disk

// Keep is what is left free for everybody else, in bytes.
const Keep = 256 << 20
