// Package notices holds the licences of all that is in the program: Go modules
// and the packages of the interface. The text is made by scripts/notices.
package notices

import _ "embed" // the text

// Text names every module and package with its version, then the licences,
// each once with those that it stands for.
//
//go:embed notices.txt
var Text string
