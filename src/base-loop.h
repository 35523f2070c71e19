// Loops over rows, spread over threads and open to interrupts.
//
// Rows are handled in rounds. Inside a round every row is an independent piece that writes to its
// own slot, so the number of threads cannot change a bit of the result. The calling thread asks
// `pulse` a few times a second whether the user wants to stop, between rows and where a long body
// calls asks_to_stop(); nothing else may talk to R. An exception
// inside a round ends the loop and is thrown again by the calling thread: none may leave a parallel
// region. What an interrupted loop leaves is in pieces: its caller hands on that it was not whole.
#pragma once
#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstddef>
#include <exception>
#include <memory>
#include <new>
#include <stdexcept>
#ifdef _OPENMP
#include <omp.h>
#endif

// For short loops over numbers: the compiler's second level, which R asks for, does them one at a
// time. Clones: the same function for processors with wider registers, chosen when the library is
// loaded; the numbers are the same to the bit.
#if defined(__GNUC__) && !defined(__clang__)
#define DREHER_WIDE __attribute__((optimize("O3")))
#else
#define DREHER_WIDE
#endif
#if defined(__GNUC__) && !defined(__clang__) && defined(__x86_64__) && defined(__gnu_linux__) && \
    !defined(__SANITIZE_ADDRESS__)
#define DREHER_CLONES \
  __attribute__((optimize("O3", "fp-contract=off"), target_clones("avx512f", "avx2", "default")))
#else
#define DREHER_CLONES DREHER_WIDE
#endif

#if defined(__GNUC__) && !defined(__clang__)
#define DREHER_ONE_BY_ONE __attribute__((optimize("no-tree-vectorize", "no-tree-slp-vectorize")))
#else
#define DREHER_ONE_BY_ONE
#endif

namespace dreher {

inline int thread_number() {
#ifdef _OPENMP
  return omp_get_thread_num();
#else
  return 0;
#endif
}

// Whether the user wants to stop: asked by the calling thread, five times a second at most
// (`pause` in milliseconds), and known to all.
class Watch {
 public:
  explicit Watch(int pause = 200) : pause_(pause) {}
  bool stopped() const { return stopped_.load(std::memory_order_relaxed); }
  bool ask(bool (*pulse)(), int thread) {
    if (stopped() || thread != 0 || pulse == nullptr) return stopped();
    const auto now = std::chrono::steady_clock::now();
    if (now - last_ < pause_) return false;
    last_ = now;
    if (pulse()) stopped_ = true;
    return stopped();
  }

 private:
  std::atomic<bool> stopped_{false};
  std::chrono::milliseconds pause_;
  std::chrono::steady_clock::time_point last_;
};

struct Loop {
  int threads = 1;
  bool (*pulse)() = nullptr;  // returns true when the user wants to stop
  std::shared_ptr<Watch> watch = std::make_shared<Watch>();

  // For bodies that may take long: they return at once where it is so.
  bool asks_to_stop(int thread) const { return watch->ask(pulse, thread); }
};

// The first exception of a round, kept for the calling thread.
class Failure {
 public:
  bool any() const { return failed_.load(std::memory_order_relaxed); }
  // To be called inside a handler.
  void keep() {
    if (!failed_.exchange(true)) first_ = std::current_exception();
  }
  void throw_again() const {
    if (!any()) return;
    try {
      std::rethrow_exception(first_);
    } catch (const std::bad_alloc&) {
      throw std::runtime_error(
          "Memory ran out inside a loop. Use fewer rows, repeats, background rows or threads.");
    }
  }

 private:
  std::atomic<bool> failed_{false};
  std::exception_ptr first_;
};

// Calls body(i, thread) for i in [0, n). Returns false when interrupted.
template <class Body>
[[nodiscard]] bool each_row(const Loop& loop, std::ptrdiff_t n, std::ptrdiff_t round, Body body) {
  for (std::ptrdiff_t from = 0; from < n; from += round) {
    if (loop.asks_to_stop(0)) return false;
    const std::ptrdiff_t to = std::min(n, from + round);
    Failure failure;
#ifdef _OPENMP
#pragma omp parallel for num_threads(loop.threads) schedule(dynamic) if (loop.threads > 1)
#endif
    for (std::ptrdiff_t i = from; i < to; ++i) {
      const int thread = thread_number();
      if (failure.any() || loop.asks_to_stop(thread)) continue;
      try {
        body(i, thread);
      } catch (...) {
        failure.keep();
      }
    }
    failure.throw_again();
    if (loop.watch->stopped()) return false;
  }
  return true;
}

// Calls body(first, last, thread) for blocks of rows. Inside a block trees run outside and rows
// inside, so that a tree stays in the processor's cache while all rows of the block walk it.
template <class Body>
[[nodiscard]] bool each_block(const Loop& loop, std::ptrdiff_t n, std::ptrdiff_t size, Body body) {
  const std::ptrdiff_t blocks = (n + size - 1) / size;
  return each_row(
      loop, blocks, 4 * static_cast<std::ptrdiff_t>(loop.threads),
      [&](std::ptrdiff_t b, int thread) { body(b * size, std::min(n, (b + 1) * size), thread); });
}

}  // namespace dreher
