// Calls that wait in the kernel, each with a time limit: those whose limit comes, and those that somebody ends before.
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <linux/aio_abi.h>
#include <mqueue.h>
#include <pthread.h>
#include <stdio.h>
#include <string.h>
#include <sys/ipc.h>
#include <sys/sem.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

static const struct timespec two = {2, 0}; // in memory that the program may not write
static int id;
static mqd_t queue;
static pthread_mutex_t heir;

static void say(const char *what, int error) {
	printf("%s: %s, its limit still %ld\n", what, error ? strerror(error) : "came", two.tv_sec);
	fflush(stdout);
}

static struct timespec date(int seconds) {
	struct timespec t;
	clock_gettime(CLOCK_REALTIME, &t);
	t.tv_sec += seconds;
	return t;
}

static void take(const char *what) {
	struct sembuf down = {0, -1, 0};
	int failed = semtimedop(id, &down, 1, &two);
	say(what, failed ? errno : 0);
}

static void *other(void *_) {
	struct timespec soon = {0, 500000000};
	nanosleep(&soon, NULL);
	struct sembuf up = {0, 1, 0};
	semop(id, &up, 1);
	nanosleep(&soon, NULL);
	mq_send(queue, "x", 1, 0);
	struct timespec t = date(1);
	say("a lock that is held", pthread_mutex_timedlock(&heir, &t));
	t = date(5);
	int failed = pthread_mutex_timedlock(&heir, &t);
	say("a lock that is given up", failed);
	pthread_mutex_unlock(&heir);
	return NULL;
}

int main(void) {
	char text[64], name[32];
	id = semget(IPC_PRIVATE, 1, 0600);
	take("a semaphore");

	snprintf(name, sizeof name, "/zw-%d", getpid());
	struct mq_attr of = {0, 2, sizeof text, 0};
	queue = mq_open(name, O_CREAT | O_RDWR, 0600, &of);
	mq_unlink(name);
	struct timespec t = date(3);
	int n = mq_timedreceive(queue, text, sizeof text, NULL, &t);
	say("a queue", n < 0 ? errno : 0);

	aio_context_t files = 0;
	syscall(SYS_io_setup, 4, &files);
	struct io_event event;
	struct timespec half = {0, 500000000};
	n = syscall(SYS_io_getevents, files, 1, 1, &event, &half);
	printf("files: %d events, its limit still %ld\n", n, half.tv_nsec);
	fflush(stdout);

	pthread_mutexattr_t inherits;
	pthread_mutexattr_init(&inherits);
	pthread_mutexattr_setprotocol(&inherits, PTHREAD_PRIO_INHERIT);
	pthread_mutex_init(&heir, &inherits);
	pthread_mutex_lock(&heir);
	pthread_t helper;
	pthread_create(&helper, NULL, other, NULL);
	take("a semaphore that comes");
	t = date(10);
	n = mq_timedreceive(queue, text, sizeof text, NULL, &t);
	say("a queue into which something comes", n < 0 ? errno : 0);
	struct timespec while_ = {3, 0};
	nanosleep(&while_, NULL);
	pthread_mutex_unlock(&heir);
	pthread_join(helper, NULL);
	semctl(id, 0, IPC_RMID);
	return 0;
}
