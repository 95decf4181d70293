// Tallow for Windows, in C: UDP, select, Sleep, a thread that hears, QueryPerformanceCounter.
#include <winsock2.h>
#include <windows.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static SOCKET s;
static CRITICAL_SECTION lock;
static CONDITION_VARIABLE news;
static char last[200];
static int heard;

static double now(void) {
	LARGE_INTEGER c, f;
	QueryPerformanceCounter(&c); QueryPerformanceFrequency(&f);
	return (double)c.QuadPart / f.QuadPart;
}

static void server(int port) {
	struct sockaddr_in at = {AF_INET, htons(port)}, who[16];
	int people = 0;
	at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
	bind(s, (void *)&at, sizeof at);
	puts("lit"); fflush(stdout);
	double next = now();
	for (int tick = 0;;) {
		double wait = next - now();
		struct timeval left = {0, wait > 0 ? (long)(wait * 1e6) : 0};
		fd_set in; FD_ZERO(&in); FD_SET(s, &in);
		if (wait > 0 && select(0, &in, 0, 0, &left) > 0) {
			char text[100]; struct sockaddr_in from; int size = sizeof from;
			int n = recvfrom(s, text, sizeof text - 1, 0, (void *)&from, &size), known = 0;
			for (int i = 0; i < people; i++) known |= who[i].sin_port == from.sin_port;
			if (n > 0 && !known && people < 16) { text[n] = 0; printf("%s came\n", text); fflush(stdout); who[people++] = from; }
			continue;
		}
		if (now() < next) continue;
		next += 0.05; tick++;
		char text[100]; int n = sprintf(text, "%d %u", tick, (unsigned)GetTickCount());
		for (int i = 0; i < people; i++) sendto(s, text, n, 0, (void *)&who[i], sizeof who[i]);
	}
}

static DWORD WINAPI hear(void *p) {
	for (char text[200];;) {
		int n = recv(s, text, sizeof text - 1, 0);
		if (n <= 0) { Sleep(10); continue; }
		text[n] = 0;
		EnterCriticalSection(&lock); heard++; strcpy(last, text); WakeConditionVariable(&news); LeaveCriticalSection(&lock);
	}
}

int main(int n, char **a) {
	WSADATA d; WSAStartup(MAKEWORD(2, 2), &d);
	s = socket(AF_INET, SOCK_DGRAM, 0);
	if (!strcmp(a[1], "server")) server(atoi(a[2]));
	struct sockaddr_in at = {AF_INET, htons(atoi(a[3]))};
	at.sin_addr.s_addr = inet_addr(a[2]);
	connect(s, (void *)&at, sizeof at);
	InitializeCriticalSection(&lock); InitializeConditionVariable(&news);
	CreateThread(0, 0, hear, 0, 0, 0);
	puts("by the candle"); fflush(stdout);
	for (int seen = 0;;) {
		EnterCriticalSection(&lock);
		if (heard == seen) SleepConditionVariableCS(&news, &lock, 500);
		if (heard == seen) send(s, a[4], strlen(a[4]), 0);
		else printf("%.4f %s\n", now(), last), fflush(stdout);
		seen = heard;
		LeaveCriticalSection(&lock);
	}
}
