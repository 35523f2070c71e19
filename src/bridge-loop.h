// What the files that meet R share: loops that R's user can interrupt.
#pragma once
#include <Rcpp.h>

#include <memory>
#include <type_traits>

#include "base-loop.h"

namespace dreher_bridge {

// For tests: how many times a loop may still ask before it is stopped; negative: as the user says.
inline long asks_left = -1;

inline void check_interrupt(void*) { R_CheckUserInterrupt(); }

// True when the user has asked to stop; does not jump, so that C++ objects are released.
inline bool interrupted() {
  if (asks_left == 0) return true;
  if (asks_left > 0) --asks_left;
  return R_ToplevelExec(check_interrupt, nullptr) == FALSE;
}

// The one way to run a loop of the core: body(loop) says whether it was whole. Whatever it says,
// an interrupt ends the call, so that nothing in pieces is handed to R.
template <class Body>
void run_whole(int threads, Body body) {
  using Said = decltype(body(std::declval<const dreher::Loop&>()));
  static_assert(std::is_same<Said, bool>::value, "a loop says whether it was whole");
  const int pause = asks_left < 0 ? 200 : 0;
  const dreher::Loop loop{std::max(threads, 1), interrupted,
                          std::make_shared<dreher::Watch>(pause)};
  const bool whole = body(loop);
  if (!whole || loop.watch->stopped()) throw Rcpp::internal::InterruptedException();
}

}  // namespace dreher_bridge

using dreher::Loop;
using dreher_bridge::run_whole;
