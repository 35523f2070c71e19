// Shapley values of a large tree against background rows: one walk for a whole block of rows and
// all background rows together (see ranking-shapley.h for the closed form of a leaf).
//
// On the way down, a row fails a player once it does not satisfy a question about it. A leaf counts
// for a row and a background row where no player has been failed by both; what it then gives the
// players hangs on the two sets of failed players alone. So both sides are kept as groups by this
// set, a word with a bit for every player met on the way:
//
//   * at a question about player b, a group's rows that go to the child stay in it; the others join
//     the group of the same set with b;
//   * a group knows its partners, the background rows that fail none of its players, as bits. A
//     group without a partner is dropped, and so are background rows that are nobody's partner;
//   * leaves are settled at the question above them, where two of them share the work: each group
//     meets the groups of its partners once (ranking-shapley-leaves.h). What a bit's player gains
//     is kept beside the row and handed over where the walk leaves the question that met the player
//     first.
//
// Few sets are left of many rows, so that the cost per question is a step for each row that is
// left, and the pairs of groups that fit: far fewer than pairs of rows.
#pragma once
#include <memory>
#include <vector>

#include "base-loop.h"
#include "ranking-shapley-leaves.h"

namespace dreher {

class SetWalk {
 public:
  // longest: questions on the longest path of any tree; block: rows of a walk at most; gaps:
  // columns with missing values.
  SetWalk(const Forest& forest, const Division& division, const Weights& weights,
          const std::vector<char>& gaps, int longest, int block);

  // Adds the parts of rows [from, to) in one tree to phi [players * outputs][apart]. Returns early
  // where the loop asks to stop.
  void run(int tree, const Table& rows, std::ptrdiff_t from, std::ptrdiff_t to, const Loop& loop,
           int thread, double* phi, std::ptrdiff_t apart);

 private:
  struct Side {
    const Table* table = nullptr;
    std::ptrdiff_t from = 0;
    int count = 0;
  };
  struct Frame {
    RowGroups rows;
    OtherGroups others;
    Answer answer;
    std::vector<Word> satisfied, alive;  // satisfied: as before the question
  };

  void walk(int node, int depth);
  void ask(int node, Answer* answer);
  void sort_by_answer(int node, const Side& side, const Answer& answer, char* goes) const;
  bool step(const Frame& frame, int bit, int child, Frame* next);
  void step_rows(const RowGroups& from, int bit, const char* goes, const Word* others_go,
                 RowGroups* to);
  void step_others(const OtherGroups& from, int bit, const Word* goes, const Word* alive,
                   OtherGroups* to);
  bool asks_number(int node) const { return f_.set_from[node] < 0 && !gaps_[f_.column[node]]; }

  const Forest& f_;
  const Division& division_;
  const std::vector<char>& gaps_;
  LeafSums leaves_;
  std::vector<std::unique_ptr<Frame>> frame_;  // by depth
  const Loop* loop_ = nullptr;
  int thread_ = 0;
  Side row_, other_;
  int words_ = 0;  // of the others' bits
  double scale_ = 0, *phi_ = nullptr;
  std::ptrdiff_t apart_ = 0;
  int met_ = 0;                                             // players on the way
  std::vector<int> bit_of_;                                 // [players], -1: not met on the way
  std::vector<Word> satisfied_;                             // [bits][words]: have not failed it
  std::vector<char> other_goes_;                            // [children][others]
  std::vector<RowGroups::Group> rows_with_, rows_without_;  // of a step
  std::vector<OtherGroups::Group> others_with_, others_without_;
};

}  // namespace dreher
