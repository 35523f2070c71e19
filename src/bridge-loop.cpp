// Where tests tell loops when to stop.
#include "bridge-loop.h"

// Loops may ask so many times whether the user wants to stop, and are then stopped; negative: as
// the user says. Returns how many times were left.
// [[Rcpp::export(rng = false)]]
double stop_loops_after(double asks) {
  const double left = static_cast<double>(dreher_bridge::asks_left);
  dreher_bridge::asks_left = asks < 0 ? -1 : static_cast<long>(asks);
  return left;
}
