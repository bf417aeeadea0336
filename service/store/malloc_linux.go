//go:build linux && cgo

package store

/*
// Declared weak: C libraries other than glibc have no mallopt.
extern int mallopt(int parameter, int value) __attribute__((weak));

static void keep_little(void) {
	const int trim_threshold = -1, mmap_threshold = -3, bytes = 128 * 1024;
	if (mallopt) {
		mallopt(mmap_threshold, bytes);
		mallopt(trim_threshold, bytes);
	}
}
*/
import "C"

// SQLite allocates with the C library's malloc. Once large rows were written, glibc raises the size
// from which on freed memory goes back to the system, and keeps up to tens of megabytes. The sizes
// set here are those that it begins with; setting them keeps it from raising them.
func init() { C.keep_little() }
