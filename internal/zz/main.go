package main

import (
	"fmt"
	"os"
	"os/exec"
	"time"
	"database/sql"
	_ "github.com/jackc/pgx/v5/stdlib"
	_ "github.com/go-sql-driver/mysql"
	"jugatum/internal/testserver"
)

func main() {
	pg, err := testserver.StartPostgres("fsync=off", "max_connections=60")
	if err != nil { panic(err) }
	defer pg.Stop()
	m, err := testserver.StartMariaDB("log-bin=bin", "binlog-format=ROW", "innodb-flush-log-at-trx-commit=0")
	if err != nil { panic(err) }
	defer m.Stop()
	admin, _ := sql.Open("mysql", m.DSN("mysql"))
	admin.Exec("CREATE DATABASE x")
	for _, e := range []string{"postgres", "mariadb"} {
		var db *sql.DB
		url := ""
		if e == "postgres" { url = pg.URL("postgres"); db, _ = sql.Open("pgx", url) } else { url = m.URL("x"); db, _ = sql.Open("mysql", m.DSN("x")) }
		db.Exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)")
		for i := 0; i < 37; i++ { db.Exec(fmt.Sprintf("INSERT INTO t VALUES (%d, %d)", i, i)) }
		for i := 1; i < 4; i++ {
			for _, args := range [][]string{{"run", "--accept", "any", "--every-row", "--batch", "10", "--again", "--sql", "UPDATE t SET n = n + 1"}, {"verify", fmt.Sprint(2*i-1)}, {"undo", fmt.Sprint(2*i-1)}, {"runs"}} {
				t := time.Now()
				cmd := exec.Command("/tmp/jug", args...)
				if os.Getenv("STRACE") != "" && i == 3 && args[0] == os.Getenv("STRACE") {
					cmd = exec.Command("strace", append([]string{"-f", "-r", "-s", "300", "-e", "trace=network,read,write,nanosleep", "-o", "/tmp/strace."+e, "/tmp/jug"}, args...)...)
				}
				cmd.Env = append(os.Environ(), "JUGATUM_DB="+url)
				out, err := cmd.CombinedOutput()
				fmt.Println(e, args[0], time.Since(t).Round(time.Millisecond), cmd.ProcessState.UserTime(), cmd.ProcessState.SystemTime(), err)
				if err != nil { fmt.Println(string(out)) }
			}
		}
	}
}
