// Command serve runs the simulated engine that takes deliveries.
package main

import (
	"excavate/standin/protocol"
	"excavate/standin/receiver"
)

func main() { protocol.Main("standin-engine", 7803, receiver.NewEngine().Handler()) }
