#include <cstdio>
#include <cstring>
#include <functional>
#include <map>
#include <memory>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>
#define OWN __attribute__((noinline))
#define STAY __asm__ volatile("" ::: "memory")
volatile int zero;
namespace dosing {
struct Pump { virtual int push(int n) = 0; virtual ~Pump() {} Pump() { } OWN int start(int n) { int r = push(n); STAY; return r; } };
struct Early : Pump { OWN Early() { start(1); } };
struct Real : Early { int push(int n) override { return n; } };
template <class T> struct Tank { T level; OWN T drain(T by) { T r = *(volatile T *)(long)zero + by; STAY; return r; } };
OWN int throws_inner(int n) { if (!zero) throw std::runtime_error("tank empty"); return n; }
OWN int throws_outer(int n) { int r = throws_inner(n); STAY; return r; }
OWN int nothrow_inner(int n) noexcept { int r = throws_inner(n); STAY; return r; }
OWN int at_inner(int n) { std::vector<int> v(3); int r = v.at(n + 10); STAY; return r; }
OWN int lambda_inner(int n) { std::function<int(int)> f = [](int k) { int r = *(volatile int *)(long)zero + k; STAY; return r; }; int r = f(n); STAY; return r; }
OWN int null_virtual(int n) { Pump *volatile p = nullptr; int r = p->push(n); STAY; return r; }
OWN int deleted(int n) { Pump *volatile p = new Real; delete p; std::memset((void *)p, 0x61, sizeof(Real)); int r = p->push(n); STAY; return r; }
OWN int string_from_null(int n) { const char *volatile p = nullptr; std::string s(p); return (int)s.size() + n; }
OWN int rethrow(int n) { try { throws_inner(n); } catch (const std::exception &) { throw; } return n; }
OWN int in_thread(int n) { std::thread t([n] { throws_inner(n); }); t.join(); return n; }
OWN int joinless(int n) { { std::thread t([] { for (;;) ; }); STAY; } return n; }
OWN int too_much(int n) { std::vector<long> v; v.resize((std::size_t)1 << 59); return (int)v.size() + n; }
OWN int pointer_empty(int n) { std::unique_ptr<Tank<int>> p; int r = (*(Tank<int> *volatile *)&p)->level; STAY; return r + n; }
}
using namespace dosing;
OWN int pure_inner(int) { Real r; STAY; return 1; }
OWN int template_inner(int n) { Tank<long> t{}; long r = t.drain(n); STAY; return (int)r; }
int main(int count, char **words) {
    std::map<std::string, int (*)(int)> rows = {{"throws", throws_outer}, {"nothrow", nothrow_inner}, {"at", at_inner}, {"lambda", lambda_inner},
        {"null_virtual", null_virtual}, {"deleted", deleted}, {"string_from_null", string_from_null}, {"rethrow", rethrow}, {"in_thread", in_thread},
        {"joinless", joinless}, {"too_much", too_much}, {"pointer_empty", pointer_empty}, {"pure", pure_inner}, {"template", template_inner}};
    auto found = rows.find(count > 1 ? words[1] : "");
    return found == rows.end() ? 2 : found->second(0) + zero;
}
