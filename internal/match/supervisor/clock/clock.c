// What stands in for the functions of the vDSO in a supervised program: clock reads
// from a page that the supervisor writes. It is position-dependent code for the page
// behind that one, see clock.ld. To make clock.bin of it:
//
//	gcc -O2 -fno-pic -fno-stack-protector -fcf-protection=none -fno-asynchronous-unwind-tables -mno-sse -c clock.c -o clock.o
//	ld -T clock.ld --oformat binary clock.o -o clock.bin
//
// Every read takes one from a budget. When that is spent the real call is made, which
// the supervisor is told of: so a loop that waits by looking at the clock ends.
#include <stdint.h>

struct page {
	volatile int64_t mono; // ns of the monotonic clocks
	int64_t wall;          // ns to add for the clocks that tell the date
	volatile int64_t budget;
};
#define PAGE ((struct page *)0x600000000000UL)

struct timespec { int64_t s, n; };

static inline long call(long nr, long a, long b) {
	long r;
	__asm__ volatile("syscall" : "=a"(r) : "a"(nr), "D"(a), "S"(b) : "rcx", "r11", "memory");
	return r;
}

static inline int spent(void) {
	int64_t old = -1;
	__asm__ volatile("lock xaddq %0,%1" : "+r"(old), "+m"(PAGE->budget) : : "memory");
	return old <= 0;
}

// Of the clocks 0 to 7 those of the processor time of a process and a thread, 2 and 3, stay real.
__attribute__((section(".text.a0"))) int clock_gettime(unsigned id, struct timespec *t) {
	if (id > 7 || !(1u << id & 0xF3) || spent())
		return (int)call(228, id, (long)t);
	uint64_t n = PAGE->mono;
	if (id == 0 || id == 5)
		n += PAGE->wall;
	uint64_t s = n / 1000000000u;
	t->s = s;
	t->n = n - s * 1000000000u;
	return 0;
}

__attribute__((section(".text.a1"))) int gettimeofday(struct timespec *t, void *zone) {
	if (t == 0 || spent())
		return (int)call(96, (long)t, (long)zone);
	uint64_t n = PAGE->mono + PAGE->wall, s = n / 1000000000u;
	t->s = s;
	t->n = (n - s * 1000000000u) / 1000u;
	return 0;
}

__attribute__((section(".text.a2"))) long time(int64_t *t) {
	if (spent())
		return call(201, (long)t, 0);
	int64_t s = (PAGE->mono + PAGE->wall) / 1000000000u;
	if (t)
		*t = s;
	return s;
}

// Without state: the C library makes the real call, which the supervisor answers.
__attribute__((section(".text.a3"))) long getrandom(void) { return -38; }

__attribute__((section(".text.a4"))) long getcpu(unsigned *cpu, unsigned *node) {
	if (cpu)
		*cpu = 0;
	if (node)
		*node = 0;
	return 0;
}
