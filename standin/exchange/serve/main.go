// Command serve runs the simulated avatar exchange.
package main

import (
	"excavate/standin/exchange"
	"excavate/standin/protocol"
)

func main() { protocol.Main("standin-exchange", 7802, exchange.New().Handler()) }
