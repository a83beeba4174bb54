package main

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
)

func (b *bench) memory() error {
	const n, each = 64, 256 << 20
	src := filepath.Join(b.dir, "static", "quarter")
	if err := os.WriteFile(src, make([]byte, each), 0o644); err != nil {
		return err
	}
	pid := b.service.Process.Pid
	if err := os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", pid), []byte("5"), 0); err != nil {
		return fmt.Errorf("resetting the peak of memory: %w", err)
	}
	var wg sync.WaitGroup
	errs := make(chan error, n)
	start := time.Now()
	for i := range n {
		wg.Go(func() {
			in, err := os.Open(src)
			if err != nil {
				errs <- err
				return
			}
			defer in.Close()
			path := fmt.Sprintf("/bench/memory-%02d", i)
			st, err := b.request(http.MethodPut, path, in, each)
			if err == nil && st != 200 {
				err = fmt.Errorf("put: status %d", st)
			}
			if err == nil {
				st, err = b.request(http.MethodGet, path, nil, 0)
			}
			if err == nil && st != 200 {
				err = fmt.Errorf("get: status %d", st)
			}
			errs <- err
		})
	}
	wg.Wait()
	took := time.Since(start)
	for range n {
		if err := <-errs; err != nil {
			return err
		}
	}
	peak, err := peakMemory(pid)
	if err != nil {
		return err
	}
	b.row("memory, 64 clients putting and getting 256 MiB", fmt.Sprintf("%d MiB", peak>>20),
		fmt.Sprintf("put at %s in all", rate(n*each, took)), "at most 200 MiB")
	return nil
}

func peakMemory(pid int) (int64, error) {
	s, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(s)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kib, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			return kib << 10, err
		}
	}
	return 0, errors.New("no peak of memory in the process's status")
}
