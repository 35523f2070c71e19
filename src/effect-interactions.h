#pragma once
#include "ranking-shapley.h"

namespace dreher {

// Pairwise Shapley interaction values of a forest's output, exactly (Grabisch and Roubens 1999).
//
// The value of a pair {i, j} is the mean, over the sets of the other players that come before a
// random point in time, of v(S + i + j) - v(S + i) - v(S + j) + v(S), that is the integral over t
// in [0, 1] of the mixed second derivative of the multilinear extension of v at (t, ..., t). As in
// ranking-shapley.h everything is a sum over leaves. By cover, a leaf of value v adds
//     v (o_i - w_i) (o_j - w_j) * integral of prod_{k != i, j} (t o_k + (1 - t) w_k) dt,
// against one background row, a players of the path holding by the row alone and b by the
// background row alone, with B(p, q) = p! q! / (p + q + 1)!:
//     +v B(a - 2, b) for two of the a,  +v B(a, b - 2) for two of the b,  -v B(a - 1, b - 1) else.
//
// Every tree is walked once for a whole block of rows, with one word per row that says which
// players of the path so far the row fails. At a leaf the rows fall into patterns of that word, far
// fewer than rows; the parts of all pairs on the path are worked out once a pattern. Against
// background rows, trees of many leaves are walked pair of rows by pair of rows instead, parted
// where these part.
//
// out [rows * pairs * outputs], set here; pair (i, j), i < j, has number i (2P - i - 1) / 2 + j - i
// - 1. Cost: nodes * rows, and per leaf patterns * pairs on its path.
bool divide_pairs(const Forest& forest, const Table& rows, const Division& division,
                  const Loop& loop, double* out);

// Sums over trees of the weight of training rows (cover, or 1 a question where it is nullptr) at
// which a question about one player follows directly on one about another: out [players *
// players], the one above counted in rows.
void count_followers(const Forest& forest, const int* player_of, int players, const double* cover,
                     double* out);

}  // namespace dreher
