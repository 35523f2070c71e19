// What the files that meet R share: loops that R's user can interrupt.
#pragma once
#include <Rcpp.h>

#include "base-loop.h"

namespace {

void check_interrupt(void*) { R_CheckUserInterrupt(); }

// True when the user has asked to stop; does not jump, so that C++ objects are released.
bool interrupted() { return R_ToplevelExec(check_interrupt, nullptr) == FALSE; }

dreher::Loop make_loop(int threads) { return dreher::Loop{std::max(threads, 1), interrupted}; }

void stop_if_interrupted(bool done) {
  if (!done) throw Rcpp::internal::InterruptedException();
}

}  // namespace
