// Waits in every way that C knows, and says after how many milliseconds of its own clock each
// came back.
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <errno.h>
#include <poll.h>
#include <pthread.h>
#include <sched.h>
#include <semaphore.h>
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/random.h>
#include <sys/select.h>
#include <sys/socket.h>
#include <sys/time.h>
#include <sys/timerfd.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

static double now(void) {
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec * 1e3 + t.tv_nsec / 1e6;
}

static double began;
static void begin(void) { began = now(); }
static void say(const char *what) {
	printf("%s %.0f\n", what, now() - began);
	fflush(stdout);
	begin();
}

static struct timespec in(clockid_t clock, int ms) {
	struct timespec t;
	clock_gettime(clock, &t);
	t.tv_nsec += ms % 1000 * 1000000L;
	t.tv_sec += ms / 1000 + t.tv_nsec / 1000000000L;
	t.tv_nsec %= 1000000000L;
	return t;
}

static volatile int rang;
static void ring(int n) { (void)n; rang++; }

static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static pthread_cond_t condition = PTHREAD_COND_INITIALIZER;
static int signalled;

static void *signaller(void *p) {
	(void)p;
	usleep(250000);
	pthread_mutex_lock(&lock);
	signalled = 1;
	pthread_cond_signal(&condition);
	pthread_mutex_unlock(&lock);
	return 0;
}

static volatile int expired;
static void expire(union sigval v) { expired = v.sival_int; }

static volatile int go;
static void *spinner(void *p) {
	(void)p;
	usleep(100000);
	go = 1;
	return 0;
}

int main(void) {
	struct timespec d = {0, 120000000};
	begin();
	nanosleep(&d, 0);
	say("nanosleep");
	struct timespec t = in(CLOCK_MONOTONIC, 130);
	clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &t, 0);
	say("clock_nanosleep");
	t = in(CLOCK_REALTIME, 140);
	clock_nanosleep(CLOCK_REALTIME, TIMER_ABSTIME, &t, 0);
	say("clock_nanosleep by date");
	poll(0, 0, 150);
	say("poll");
	struct timeval v = {0, 160000};
	select(0, 0, 0, 0, &v);
	say("select");
	int e = epoll_create1(0);
	struct epoll_event event;
	epoll_wait(e, &event, 1, 170);
	say("epoll_wait");
	int f = timerfd_create(CLOCK_MONOTONIC, 0);
	struct itimerspec its = {{0, 50000000}, {0, 180000000}};
	timerfd_settime(f, 0, &its, 0);
	unsigned long long times = 0;
	if (read(f, &times, 8) != 8) return 1;
	say("timerfd");
	poll(0, 0, 125);
	if (read(f, &times, 8) != 8) return 1;
	printf("timerfd expired %llu times in 125\n", times);
	begin();
	signal(SIGALRM, ring);
	struct itimerval iv = {{0, 0}, {0, 190000}};
	setitimer(ITIMER_REAL, &iv, 0);
	pause();
	say("setitimer");
	alarm(2);
	pause();
	say("alarm");
	printf("rang %d\n", rang);
	struct sigevent se = {0};
	se.sigev_notify = SIGEV_SIGNAL;
	se.sigev_signo = SIGALRM;
	timer_t timer;
	timer_create(CLOCK_MONOTONIC, &se, &timer);
	struct itimerspec once = {{0, 0}, {0, 210000000}};
	timer_settime(timer, 0, &once, 0);
	pause();
	say("timer_create");
	struct sigevent st = {0};
	st.sigev_notify = SIGEV_THREAD;
	st.sigev_notify_function = expire;
	st.sigev_value.sival_int = 7;
	timer_t other;
	timer_create(CLOCK_MONOTONIC, &st, &other);
	struct itimerspec later = {{0, 0}, {0, 220000000}};
	timer_settime(other, 0, &later, 0);
	usleep(230000);
	say("timer with a thread");
	printf("expired %d\n", expired);
	sigset_t set;
	sigemptyset(&set);
	sigaddset(&set, SIGUSR1);
	pthread_sigmask(SIG_BLOCK, &set, 0);
	struct timespec w = {0, 240000000};
	int got = sigtimedwait(&set, 0, &w);
	printf("sigtimedwait gives %d\n", got < 0 ? -errno : got);
	say("sigtimedwait");
	if (fork() == 0) {
		usleep(50000);
		kill(getppid(), SIGUSR1);
		_exit(3);
	}
	w.tv_sec = 5;
	got = sigtimedwait(&set, 0, &w);
	printf("sigtimedwait gives %d\n", got);
	say("sigtimedwait, signalled");
	int status;
	wait(&status);
	printf("child ended with %d\n", WEXITSTATUS(status));
	begin();
	pthread_mutex_lock(&lock);
	t = in(CLOCK_REALTIME, 260);
	int r = pthread_cond_timedwait(&condition, &lock, &t);
	printf("condition %s\n", r == ETIMEDOUT ? "timed out" : "came");
	say("pthread_cond_timedwait");
	pthread_t thread;
	pthread_create(&thread, 0, signaller, 0);
	t = in(CLOCK_REALTIME, 5000);
	while (!signalled && r != 0) r = pthread_cond_timedwait(&condition, &lock, &t);
	pthread_mutex_unlock(&lock);
	printf("condition %s\n", r == ETIMEDOUT ? "timed out" : "came");
	say("pthread_cond_timedwait, signalled");
	pthread_join(thread, 0);
	sem_t sem;
	sem_init(&sem, 0, 0);
	t = in(CLOCK_REALTIME, 270);
	begin();
	sem_timedwait(&sem, &t);
	say("sem_timedwait");
	int s = socket(AF_INET, SOCK_DGRAM, 0);
	struct sockaddr_in at = {.sin_family = AF_INET, .sin_addr = {htonl(INADDR_LOOPBACK)}};
	bind(s, (void *)&at, sizeof at);
	v.tv_usec = 280000;
	setsockopt(s, SOL_SOCKET, SO_RCVTIMEO, &v, sizeof v);
	char b[16];
	r = recv(s, b, sizeof b, 0);
	printf("recv gives %d\n", r < 0 ? -errno : r);
	say("recv with a limit");
	double until = now() + 300;
	while (now() < until) ;
	printf("looking at the clock %s\n", now() - began < 305 ? "ends" : "ends late");
	begin();
	time_t second = time(0);
	while (time(0) < second + 2) ;
	printf("looking at the time %s\n", now() - began < 2100 ? "ends" : "ends late");
	pthread_create(&thread, 0, spinner, 0);
	begin();
	while (!go) sched_yield();
	pthread_join(thread, 0);
	printf("running until another thread says so ends\n");
	unsigned char random[4];
	if (getrandom(random, 4, 0) != 4) return 1;
	printf("random %02x%02x%02x%02x\n", random[0], random[1], random[2], random[3]);
	return 0;
}
