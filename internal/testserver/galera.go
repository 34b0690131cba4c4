package testserver

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"
)

// galeraLibrary is where Debian's galera-4 puts the replication library.
const galeraLibrary = "/usr/lib/galera/libgalera_smm.so"

// StartGalera starts a cluster of n nodes on 127.0.0.1, the first of which the
// others copy with rsync.
func StartGalera(n int) ([]*MariaDB, error) {
	if _, err := os.Stat(galeraLibrary); err != nil {
		return nil, ErrMissing
	}
	for _, name := range []string{"wsrep_sst_rsync", "rsync"} {
		if _, err := exec.LookPath(name); err != nil {
			return nil, fmt.Errorf("%w: %s", ErrMissing, name)
		}
	}
	var group, transfer, state []int
	for range n {
		for _, list := range []*[]int{&group, &transfer, &state} {
			p, err := freePort()
			if err != nil {
				return nil, err
			}
			*list = append(*list, p)
		}
	}
	address := func(i int) string { return fmt.Sprintf("127.0.0.1:%d", group[i]) }
	var nodes []*MariaDB
	for i := range n {
		var peers []string
		for j := range n {
			peers = append(peers, address(j))
		}
		settings := []string{"binlog-format=ROW", "innodb-autoinc-lock-mode=2", "innodb-flush-log-at-trx-commit=0", "wsrep-on=ON", "wsrep-provider=" + galeraLibrary,
			"wsrep-cluster-name=jugatum", "wsrep-cluster-address=gcomm://" + strings.Join(peers, ","), "wsrep-node-address=127.0.0.1", "wsrep-node-name=node" + fmt.Sprint(i+1),
			"wsrep-sst-method=rsync", fmt.Sprintf("wsrep-sst-receive-address=127.0.0.1:%d", state[i]),
			fmt.Sprintf("wsrep-provider-options=gmcast.listen_addr=tcp://%s;ist.recv_addr=127.0.0.1:%d;gcache.size=64M", address(i), transfer[i])}
		m, err := newMariaDB(settings)
		if err == nil {
			if i == 0 {
				m.once = []string{"wsrep-new-cluster"}
			}
			err = m.Join()
		}
		if m != nil {
			nodes = append(nodes, m)
		}
		if err != nil {
			for _, m := range nodes {
				m.Stop()
			}
			return nil, fmt.Errorf("node %d: %w", i+1, err)
		}
	}
	return nodes, nil
}

// Join starts a node. On a busy machine the copying of the state can fail, and
// the node then ends; it is started again.
func (m *MariaDB) Join() error {
	once := m.once
	for try := 1; ; try++ {
		err := m.Start()
		if err == nil || try == 3 {
			return err
		}
		m.once = once
		time.Sleep(time.Second)
	}
}

// Synced waits until a node has the state of the cluster.
func (m *MariaDB) Synced(timeout time.Duration) error {
	for begin := time.Now(); time.Since(begin) < timeout; time.Sleep(100 * time.Millisecond) {
		if state, err := m.status("wsrep_local_state_comment"); err == nil && state == "Synced" {
			return nil
		}
	}
	return errors.New("the node does not come to the cluster's state")
}
