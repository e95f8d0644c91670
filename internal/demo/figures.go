package demo

import _ "embed"

// The chains of the figures' page.
var (
	//go:embed corin.yaml
	Corin []byte
	//go:embed keeper_strolls.yaml
	KeeperStrolls []byte
	//go:embed keeper_back.yaml
	KeeperBack []byte
)
