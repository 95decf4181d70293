// Tallow in C: candles burn down, and everybody sees how far. UDP; a client hears on a thread of its own.
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/random.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static pthread_cond_t news = PTHREAD_COND_INITIALIZER;
static char last[200];
static int heard, s;

static double now(void) {
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec + t.tv_nsec / 1e9;
}

static void server(int port) {
	struct sockaddr_in at = {AF_INET, htons(port), {htonl(INADDR_LOOPBACK)}}, who[16];
	int people = 0;
	bind(s, (void *)&at, sizeof at);
	puts("lit"); fflush(stdout);
	double next = now();
	for (int tick = 0;;) {
		struct timeval left = {0, (next - now()) * 1e6};
		if (left.tv_usec < 0) left.tv_usec = 0;
		fd_set in; FD_ZERO(&in); FD_SET(s, &in);
		if (now() < next && select(s + 1, &in, 0, 0, &left) > 0) {
			char text[100]; struct sockaddr_in from; socklen_t size = sizeof from;
			ssize_t n = recvfrom(s, text, sizeof text - 1, 0, (void *)&from, &size);
			int known = 0;
			for (int i = 0; i < people; i++) known |= who[i].sin_port == from.sin_port;
			if (n > 0 && !known && people < 16) { text[n] = 0; printf("%s came\n", text); fflush(stdout); who[people++] = from; }
			continue;
		}
		if (now() < next) continue;
		next += 0.05; tick++;
		unsigned drop; getrandom(&drop, sizeof drop, 0);
		char text[100]; int n = snprintf(text, sizeof text, "%d %u %p", tick, drop % 1000, malloc(drop % 50));
		for (int i = 0; i < people; i++) sendto(s, text, n, 0, (void *)&who[i], sizeof who[i]);
	}
}

static void *hear(void *p) {
	for (char text[200];;) {
		ssize_t n = recv(s, text, sizeof text - 1, 0);
		if (n <= 0) continue;
		text[n] = 0;
		pthread_mutex_lock(&lock); heard++; strcpy(last, text); pthread_cond_signal(&news); pthread_mutex_unlock(&lock);
	}
	return p;
}

int main(int n, char **a) {
	s = socket(AF_INET, SOCK_DGRAM, 0);
	if (!strcmp(a[1], "server")) server(atoi(a[2]));
	struct sockaddr_in at = {AF_INET, htons(atoi(a[3])), {inet_addr(a[2])}};
	connect(s, (void *)&at, sizeof at);
	pthread_t t; pthread_create(&t, 0, hear, 0);
	puts("by the candle"); fflush(stdout);
	for (int seen = 0;;) {
		struct timespec until; clock_gettime(CLOCK_REALTIME, &until);
		until.tv_sec++;
		pthread_mutex_lock(&lock);
		int late = 0;
		while (heard == seen && !late) late = pthread_cond_timedwait(&news, &lock, &until);
		if (heard == seen) send(s, a[4], strlen(a[4]), 0);
		else printf("%.4f %s\n", now(), last), fflush(stdout);
		seen = heard;
		pthread_mutex_unlock(&lock);
	}
}
