// Command serve runs the simulated film tool that takes deliveries.
package main

import (
	"excavate/standin/protocol"
	"excavate/standin/receiver"
)

func main() { protocol.Main("standin-film", 7804, receiver.NewFilm().Handler()) }
