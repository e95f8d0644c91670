// Command serve runs the simulated console with its cartridge.
package main

import (
	"excavate/standin/console"
	"excavate/standin/protocol"
)

func main() { protocol.Main("standin-console", 7801, console.New().Handler()) }
