// What the leaves below a question give to the players, for groups of rows against groups of
// background rows: the inner loop of ranking-shapley-sets.h.
#pragma once
#include <cstdint>
#include <vector>

#include "ranking-quadrature.h"
#include "ranking-shapley.h"

namespace dreher {

using Word = std::uint64_t;

constexpr int most_players = 63;   // on one path, so that a set is a word
constexpr int most_others = 1024;  // background rows that are walked together
// A question leads left, right, or to a branch or stay of missing values.
constexpr int most_children = 3;

// The rows that reach a node, by the set of players that they have failed.
struct RowGroups {
  struct Group {
    Word failed;
    int slot;      // where its partners stand
    int from, to;  // its rows
  };
  std::vector<Group> group;    // in order of `failed`
  std::vector<int> row;        // in the block
  std::vector<Word> partners;  // [slots][words]: background rows that fail none of these players
};
// Likewise the background rows, as bits.
struct OtherGroups {
  struct Group {
    Word failed;
    int slot;
  };
  std::vector<Group> group;
  std::vector<Word> row;  // [slots][words]
};

// Where a question leads to, and which of the rows it sends there.
struct Answer {
  int child[most_children];
  const double* value[most_children];  // [outputs] of a child that is a leaf, nullptr of others
  int children = 0;
  std::vector<char> rows;    // [children][rows]
  std::vector<Word> others;  // [children][words]
};

// Bits set, by sums of ever wider fields: the compiler's own is a call where the processor's kind
// is not known.
inline int count_bits(Word x) {
  x -= x >> 1 & 0x5555555555555555u;
  x = (x & 0x3333333333333333u) + (x >> 2 & 0x3333333333333333u);
  return static_cast<int>(((x + (x >> 4)) & 0x0f0f0f0f0f0f0f0fu) * 0x0101010101010101u >> 56);
}

// Numbers that go together; compilers part them by what the processor has.
typedef double Four __attribute__((vector_size(32), aligned(8)));
typedef double Eight __attribute__((vector_size(64), aligned(8)));

class LeafSums {
 public:
  // most: players on one path at most; block: rows of a walk at most.
  LeafSums(const Forest& forest, const Weights& weights, int most, int block);

  // Adds the parts of the answer's children that are leaves. bit: of the player asked; met: players
  // met on the way, this one too; scale: weight of the tree over all background rows.
  void add(const RowGroups& rows, const OtherGroups& others, const Answer& answer, int bit, int met,
           double scale);
  // Moves what these rows have gained for a bit to phi [outputs][rows], `apart` from output to
  // output.
  void hand_over(int bit, const RowGroups& rows, double* phi, std::ptrdiff_t apart);

 private:
  // What comes of a row that has failed b players and others that have failed a: what each of the a
  // gains, what each of the b loses, and what the player asked gains if in neither set.
  struct Gift {
    static constexpr int gain = 0, loss = 1, asked = 2;
    Four part;
  };
  // The same for 1 of the output, by whether both do as the question asks or one of them fails.
  struct Unit {
    Four both, other_fails, row_fails;
  };
  // How much of the output a group of others stands for, likewise.
  struct Share {
    double both, other_fails, row_fails;
  };
  struct Alike {  // rows of a group that go the same way, or have failed the player asked before
    const RowGroups::Group* group;
    const Word* partners;
    int way;
    const int* row;
    int count;
  };

  void find_first(const OtherGroups& others);
  void share_out(const OtherGroups& others, const Answer& answer, double scale);
  void sort_by_size(const RowGroups& rows, int met);
  void give(int b, int way);
  template <int eights>
  void meet(const Alike& rows, const Gift* gift, Eight* part) const;
  template <int eights>
  void settle(const Alike& rows);
  template <int eights>
  void add_groups(const RowGroups& rows, const Answer& answer, int b);
  void add_by_width(const RowGroups& rows, const Answer& answer, int b, int met);

  const int outputs_, block_, width_;  // width_: players on a path, in eights
  const int sizes_;                    // of sets of failed players
  std::vector<Unit> unit_;             // [sizes of the row's set][of the others']
  std::vector<double> room_;
  double* gained_;  // [outputs][block][width]
  // Of a question. A row of the others stands for its group: which these are, the set of players
  // they have failed, and how many these are.
  std::vector<Word> first_, set_;
  std::vector<int> size_;
  int words_ = 0, bit_ = 0, children_ = 0;
  // Of one output the leaves' values are part of the shares; of several, every leaf has shares of
  // its own (a kind) and values are for the end.
  int kinds_ = 0;
  const double* value_[most_children];                          // [kinds]: [outputs]
  std::vector<Share> share_[most_children][most_children + 1];  // [kinds][ways of a row], by others
  std::vector<Gift> gift_[most_children][most_children + 1];
  std::vector<int> order_, by_size_, next_, chosen_;  // groups by size of set
};

}  // namespace dreher
