// A loop that never sleeps, as native engines have them: at every step it hands work to a pool of
// threads, and runs until they are done.
#include <math.h>
#include <pthread.h>
#include <sched.h>
#include <stdatomic.h>
#include <stdio.h>
#include <time.h>

static atomic_int todo, done;
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static pthread_cond_t work = PTHREAD_COND_INITIALIZER;
static int turns[3];

static void *worker(void *p) {
	for (;;) {
		pthread_mutex_lock(&lock);
		while (todo == 0)
			pthread_cond_wait(&work, &lock);
		todo--;
		pthread_mutex_unlock(&lock);
		volatile double x = 0;
		for (int i = 0; i < 2000; i++)
			x += sin(i);
		turns[(long)p]++;
		done++;
	}
	return 0;
}

static double now(void) {
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec + t.tv_nsec / 1e9;
}

int main(void) {
	pthread_t t;
	for (long i = 0; i < 3; i++)
		pthread_create(&t, 0, worker, (void *)i);
	double next = now();
	for (int step = 0; step < 40;) {
		if (now() < next) {
			sched_yield();
			continue;
		}
		next += 0.05;
		step++;
		done = 0;
		pthread_mutex_lock(&lock);
		todo = 3;
		pthread_mutex_unlock(&lock);
		pthread_cond_broadcast(&work);
		while (done < 3)
			sched_yield();
		printf("step %d: %d %d %d\n", step, turns[0], turns[1], turns[2]);
		fflush(stdout);
	}
	return 0;
}
