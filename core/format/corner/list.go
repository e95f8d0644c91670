package corner

// list grows without moving what it has.
type list[T any] struct {
	chunks [][]T
	n      int
}

const chunkBits = 13

func (l *list[T]) add(v T) {
	k := l.n >> chunkBits
	if k == len(l.chunks) {
		size := 1 << chunkBits
		if k == 0 {
			size = 16 // most are short
		}
		l.chunks = append(l.chunks, make([]T, 0, size))
	}
	l.chunks[k] = append(l.chunks[k], v)
	l.n++
}

func (l *list[T]) at(k int) *T { return &l.chunks[k>>chunkBits][k&(1<<chunkBits-1)] }
