// Tallow in C++, built like an engine: a loop with a frame limiter that yields, job threads with condition variables, a
// network thread with recvmmsg, and a thread on a timer like one for sound. UDP.
#include <arpa/inet.h>
#include <sys/socket.h>
#include <atomic>
#include <chrono>
#include <condition_variable>
#include <cstdio>
#include <cstring>
#include <deque>
#include <functional>
#include <map>
#include <mutex>
#include <random>
#include <string>
#include <thread>
#include <vector>
using namespace std;
using Clock = chrono::steady_clock;

struct Jobs {
	mutex lock; condition_variable some; deque<function<void()>> queue; atomic<int> left{0}; vector<thread> threads;
	Jobs() { for (int i = 0; i < 4; i++) threads.emplace_back([this] { work(); }); }
	void work() {
		for (;;) {
			unique_lock<mutex> l(lock);
			some.wait(l, [this] { return !queue.empty(); });
			auto job = move(queue.front()); queue.pop_front();
			l.unlock(); job(); left--;
		}
	}
	void run(vector<function<void()>> list) {
		left += list.size();
		{ lock_guard<mutex> l(lock); for (auto &j : list) queue.push_back(j); }
		some.notify_all();
		while (left > 0) this_thread::yield();
	}
};

int main(int n, char **a) {
	bool server = !strcmp(a[1], "server");
	int s = socket(AF_INET, SOCK_DGRAM, 0);
	sockaddr_in at{}; at.sin_family = AF_INET; at.sin_port = htons(atoi(a[server ? 2 : 3])); at.sin_addr.s_addr = inet_addr("127.0.0.1");
	if (server) bind(s, (sockaddr *)&at, sizeof at); else connect(s, (sockaddr *)&at, sizeof at);
	mutex lock; vector<pair<string, sockaddr_in>> inbox;
	thread net([&] {
		for (;;) {
			char text[8][256]; sockaddr_in from[8]; iovec v[8]; mmsghdr m[8] = {};
			for (int i = 0; i < 8; i++) { v[i] = {text[i], 256}; m[i].msg_hdr.msg_iov = &v[i]; m[i].msg_hdr.msg_iovlen = 1; m[i].msg_hdr.msg_name = &from[i]; m[i].msg_hdr.msg_namelen = sizeof from[i]; }
			int got = recvmmsg(s, m, 8, MSG_WAITFORONE, nullptr);
			lock_guard<mutex> l(lock);
			for (int i = 0; i < got; i++) inbox.emplace_back(string(text[i], m[i].msg_len), from[i]);
		}
	});
	atomic<long> samples{0};
	thread sound([&] { for (auto next = Clock::now();;) { next += chrono::microseconds(10667); this_thread::sleep_until(next); samples += 512; } });
	Jobs jobs; mt19937 chance(atoi(getenv("ZWHEEL_SEED") ? getenv("ZWHEEL_SEED") : "1"));
	puts(server ? "lit" : "by the candle"); fflush(stdout);
	map<int, sockaddr_in> people; vector<double> wax(64, 1000); string last; auto frame = Clock::now(), asked = frame - chrono::seconds(2), told = frame;
	for (int tick = 0;; tick++) {
		vector<pair<string, sockaddr_in>> got; { lock_guard<mutex> l(lock); got.swap(inbox); }
		for (auto &g : got) {
			if (server && !people.count(g.second.sin_port)) { people[g.second.sin_port] = g.second; printf("%s came\n", g.first.c_str()); fflush(stdout); }
			if (!server) last = g.first;
		}
		vector<function<void()>> list;
		for (int j = 0; j < 4; j++) list.push_back([&wax, j] { for (int i = j * 16; i < j * 16 + 16; i++) for (int k = 0; k < 200; k++) wax[i] = wax[i] * 0.999999 - 0.0001; });
		jobs.run(list);
		auto now = Clock::now();
		if (server && tick % 3 == 0) {
			string text = to_string(tick) + " " + to_string(wax[chance() % 64]);
			for (auto &p : people) sendto(s, text.data(), text.size(), 0, (sockaddr *)&p.second, sizeof p.second);
		}
		if (!server && last.empty() && now - asked > chrono::milliseconds(500)) { asked = now; send(s, a[4], strlen(a[4]), 0); }
		if (!server && now - told > chrono::milliseconds(100)) { told = now; printf("%s sound %ld\n", last.c_str(), samples.load()); fflush(stdout); }
		frame += chrono::microseconds(16667);
		if (frame - Clock::now() > chrono::milliseconds(2)) this_thread::sleep_until(frame - chrono::milliseconds(2));
		while (Clock::now() < frame) this_thread::yield();
	}
}
