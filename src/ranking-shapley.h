#pragma once
#include "model-forest.h"

namespace dreher {

// Shapley values of a forest's output, exactly, for two meanings of "not known".
//
// background: v(S) = mean over background rows b of f(row on S, b elsewhere);
// cover:      v(S) = output where a question about a player outside S is answered by both children,
// weighted by the
//             training rows that went there (Lundberg et al. 2020).
//
// Both are sums over leaves. Let o_k be 1 if the row satisfies all questions about player k on the
// way to a leaf of value v. By cover, w_k being the product of the shares of rows on these
// questions, player e's part is
//     v (o_e - w_e) * integral over t in [0, 1] of prod_{k != e} (t o_k + (1 - t) w_k) dt,
// a polynomial, which Gauss-Legendre quadrature with half as many points as players integrates
// exactly. Against one background row that satisfies z_k, with a players for which o > z and b for
// which z > o (and none with neither), it is
//     +v (a-1)! b! / (a+b)!  for each of the a,   -v a! (b-1)! / (a+b)!  for each of the b.
//
// Small trees: these parts are tabulated. The questions of a tree become bits of a word; bottom
// subtrees of up to three questions share a table over "path satisfied, per player above" and the
// answers inside, so that a row costs one look-up per subtree whatever the number of background
// rows. Other trees: by cover, one walk over all nodes per row that carries the products down, one
// for each point of the quadrature, and sums up; against background rows, one walk with all rows in
// groups (ranking-shapley-sets.h) or, of few rows, a walk along each pair, parted where they part.
//
// player_of  [n_columns], -1 for a column that is no player's
// cover      [n_nodes] training rows that pass each node, or nullptr for background rows
// phi        [rows * n_players * n_outputs], set here
struct Division {
  const int* player_of = nullptr;
  int players = 0;
  const Table* background = nullptr;
  const double* cover = nullptr;
};

// The most questions on one path of each tree.
std::vector<int> longest_paths(const Forest& forest);

bool divide_outputs(const Forest& forest, const Table& rows, const Division& division,
                    const Loop& loop, double* phi);

// Training rows that pass each node (surrogates: none), each counted `count` times ([rows * trees],
// or nullptr: once).
bool count_cover(const Forest& forest, const Table& table, const int* count, const Loop& loop,
                 double* cover);

// Output with everything unknown, by cover.
void cover_baseline(const Forest& forest, const double* cover, double* baseline);

}  // namespace dreher
