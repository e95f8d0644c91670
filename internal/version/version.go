// Package version names the version of Excavate that runs.
package version

// Version is stated in deliveries.
const Version = "0.1.0"
