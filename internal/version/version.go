// Package version names the version of Excavate that runs.
package version

// Version is stated in deliveries. A release's build may set another (-ldflags
// -X).
var Version = "0.1.0"
