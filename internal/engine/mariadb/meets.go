package mariadb

import (
	"context"

	"jugatum/internal/engine"
)

// What this engine meets of the seam; docs/architecture.md has the table of all.
var (
	_ engine.Adviser          = (*DB)(nil)
	_ engine.DB               = (*DB)(nil)
	_ engine.LedgerPlacer     = (*DB)(nil)
	_ engine.ReaderTeller     = (*DB)(nil)
	_ engine.KeptGuard        = (*DB)(nil)
	_ engine.ReadOnlyTeller   = (*DB)(nil)
	_ engine.PrivilegeTeller  = (*DB)(nil)
	_ engine.Exposed          = (*DB)(nil)
	_ engine.Abandoner        = (*DB)(nil)
	_ engine.SchemaMaker      = (*DB)(nil)
	_ engine.RunLocker        = (*DB)(nil)
	_ engine.SessionEnder     = (*DB)(nil)
	_ engine.DDLCommitter     = (*DB)(nil)
	_ engine.ManyWriters      = (*DB)(nil)
	_ engine.CommitOverlapper = (*DB)(nil)
	_ engine.Foreseer         = (*DB)(nil)
	_ engine.WaitWatcher      = (*DB)(nil)
	_ engine.LockTeller       = (*DB)(nil)
	_ engine.LagTeller        = (*DB)(nil)
	_ engine.ReplicaFollower  = (*DB)(nil)
	_ engine.FlowTeller       = (*DB)(nil)
	_ engine.ServerTeller     = (*DB)(nil)
	_ engine.LogPositioner    = (*DB)(nil)
	_ engine.Housekeeper      = (*DB)(nil)
	_ engine.Weigher          = (*DB)(nil)
	_ engine.ReadCounter      = (*DB)(nil)
	_ engine.Packer           = (*DB)(nil)
	_ engine.Unpacker         = (*DB)(nil)
	_ engine.RowWriter        = (*DB)(nil)
	_ engine.SourceStager     = (*DB)(nil)
)

func init() {
	engine.Register(engine.Driver{Schemes: []string{"mariadb", "mysql"}, Shape: "mariadb://USER@HOST:PORT/NAME", Dialect: d, Open: func(ctx context.Context, url string) (engine.DB, error) {
		db, err := Open(ctx, url)
		if err != nil { // not a nil *DB
			return nil, err
		}
		return db, nil
	}})
}
