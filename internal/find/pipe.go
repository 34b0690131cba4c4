package find

// blockBytes is about how much is read before it is handed on.
const blockBytes = 64 << 10

// block is rows on their way from the one who reads them to the one who looks at them.
type block struct {
	bytes []byte
	ends  []int // of each value in bytes; -1 for NULL
}

// pipe has read call its argument with each row, and look see the rows, numbered
// from 0, while more of them are read: two threads, and a few blocks of memory
// between them. A value lives as long as the call that is given it.
func pipe(columns int, read func(each func(values [][]byte) error) error, look func(n int, values [][]byte)) error {
	full, empty := make(chan *block, 4), make(chan *block, 4)
	for range cap(empty) {
		empty <- &block{bytes: make([]byte, 0, blockBytes)}
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		values, n := make([][]byte, columns), 0
		for b := range full {
			from := 0
			for i, end := range b.ends {
				if values[i%columns] = nil; end >= 0 {
					values[i%columns] = b.bytes[from:end:end]
					from = end
				}
				if i%columns == columns-1 {
					look(n, values)
					n++
				}
			}
			b.bytes, b.ends = b.bytes[:0], b.ends[:0]
			if cap(b.bytes) > 16*blockBytes { // a huge value went by
				b.bytes = make([]byte, 0, blockBytes)
			}
			empty <- b
		}
	}()
	b := <-empty
	err := read(func(values [][]byte) error {
		for _, v := range values {
			if v == nil {
				b.ends = append(b.ends, -1)
				continue
			}
			b.bytes = append(b.bytes, v...)
			b.ends = append(b.ends, len(b.bytes))
		}
		if len(b.bytes) > blockBytes {
			full <- b
			b = <-empty
		}
		return nil
	})
	full <- b
	close(full)
	<-done
	return err
}
