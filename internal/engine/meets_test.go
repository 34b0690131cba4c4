package engine_test

import (
	"fmt"
	"os"
	"reflect"
	"strings"
	"testing"

	"jugatum/internal/engine"
	"jugatum/internal/engine/mariadb"
	"jugatum/internal/engine/postgres"
	"jugatum/internal/engine/sqlite"
)

// optional are the interfaces of the seam that an engine may meet or not.
var optional = []reflect.Type{
	reflect.TypeFor[engine.LedgerPlacer](), reflect.TypeFor[engine.LedgerKeeper](), reflect.TypeFor[engine.ReaderTeller](), reflect.TypeFor[engine.KeptGuard](), reflect.TypeFor[engine.ReadOnlyTeller](),
	reflect.TypeFor[engine.PrivilegeTeller](), reflect.TypeFor[engine.Exposed](), reflect.TypeFor[engine.Abandoner](), reflect.TypeFor[engine.SchemaMaker](), reflect.TypeFor[engine.RunLocker](), reflect.TypeFor[engine.SessionEnder](), reflect.TypeFor[engine.DDLCommitter](),
	reflect.TypeFor[engine.Adviser](), reflect.TypeFor[engine.ManyWriters](), reflect.TypeFor[engine.Yielder](), reflect.TypeFor[engine.CommitOverlapper](), reflect.TypeFor[engine.Foreseer](),
	reflect.TypeFor[engine.Marker](), reflect.TypeFor[engine.RowNumberer](), reflect.TypeFor[engine.Witness](),
	reflect.TypeFor[engine.WaitWatcher](), reflect.TypeFor[engine.LockTeller](), reflect.TypeFor[engine.LagTeller](), reflect.TypeFor[engine.ReplicaFollower](), reflect.TypeFor[engine.FlowTeller](),
	reflect.TypeFor[engine.ServerTeller](), reflect.TypeFor[engine.CheckpointTeller](), reflect.TypeFor[engine.LogPositioner](), reflect.TypeFor[engine.Housekeeper](), reflect.TypeFor[engine.Weigher](), reflect.TypeFor[engine.ReadCounter](),
	reflect.TypeFor[engine.KeptReader](), reflect.TypeFor[engine.Packer](), reflect.TypeFor[engine.Unpacker](), reflect.TypeFor[engine.SourceStager](), reflect.TypeFor[engine.Skimmer](), reflect.TypeFor[engine.RowWriter](), reflect.TypeFor[engine.SelfCommitter](),
}

// TestWhoMeetsWhat: the table in the docs says of each optional interface which
// engines meet it, and there is none that all of them meet: that would belong in DB.
func TestWhoMeetsWhat(t *testing.T) {
	text, err := os.ReadFile("../../docs/architecture.md")
	if err != nil {
		t.Fatal(err)
	}
	engines := []struct {
		name string
		db   reflect.Type
	}{{"SQLite", reflect.TypeFor[*sqlite.DB]()}, {"PostgreSQL", reflect.TypeFor[*postgres.DB]()}, {"MariaDB", reflect.TypeFor[*mariadb.DB]()}}
	for _, i := range optional {
		var names []string
		for _, e := range engines {
			if e.db.Implements(i) {
				names = append(names, e.name)
			}
		}
		if len(names) == 0 || len(names) == len(engines) {
			t.Errorf("%s is met by %v", i.Name(), names)
		}
		if row := fmt.Sprintf("| `%s` | %s | ", i.Name(), strings.Join(names, ", ")); !strings.Contains(string(text), row) {
			t.Errorf("the docs have no row that begins with %s", row)
		}
	}
}
