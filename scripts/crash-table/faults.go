package main

import (
	"os"
	"sync"
	"unsafe"
)

type tank struct {
	pad   [24]byte
	level int
}

//go:noinline
func nilInner(n int) int { var t *tank; return t.level + n }

//go:noinline
func indexInner(n int) int { v := make([]int, 2); return v[n+10] }

//go:noinline
func mapInner(n int) int { var m map[string]int; m["a"] = n; return n }

//go:noinline
func wildInner(n int) int { p := (*int)(unsafe.Pointer(uintptr(0x12345678))); return *p + n }

//go:noinline
func deepInner(n int) int { var room [64]int; room[n%64] = n; return deepInner(n+1) + room[3] }

//go:noinline
func panicInner(n int) int { panic("tank empty") }

//go:noinline
func castInner(n int) int { var v interface{} = "text"; return v.(int) + n }

//go:noinline
func routineStep(n int) { var t *tank; t.level = n }

//go:noinline
func routineInner(n int) int { go routineStep(n); select {} }

//go:noinline
func lockInner(n int) int { var m sync.Mutex; m.Lock(); m.Lock(); return n }

func main() {
	rows := map[string]func(int) int{"nil": nilInner, "index": indexInner, "map": mapInner, "wild": wildInner, "deep": deepInner, "panic": panicInner, "cast": castInner, "routine": routineInner, "lock": lockInner}
	f, ok := rows[os.Args[1]]
	if !ok {
		os.Exit(2)
	}
	os.Exit(f(0))
}
