// The walks of shuffled rows through one tree (see ranking-permutation.h): the real paths of a
// group of rows level by level, and the walks that leave them, all in step.
#pragma once
#include "ranking-lanes.h"

namespace dreher {

// A column (or player) of a row of a group. Codes, masks and changes of a group lie in this order:
// its rows mostly ask the same columns, and so share the processor's cache.
inline std::size_t cell_of(std::size_t column, unsigned row) { return column * group_rows + row; }

// A walk off the real path of a row through a tree: the repeats in `mask`, in which a player of the
// row (`cell`) is replaced, stand `at` a node.
struct Off {
  Mask mask;
  unsigned at;
  unsigned cell;
  unsigned row() const { return cell % group_rows; }
  int player() const { return static_cast<int>(cell / group_rows); }
};

// Where walks are written: in any case, counted where there are repeats, so that there is no branch
// to guess wrong.
struct Pen {
  Off* list;
  unsigned* active;
  std::size_t count, moving;
  void put(const Off& walk, bool ended) {
    list[count] = walk;
    active[moving] = count;
    const bool any = walk.mask != 0;
    count += any;
    moving += any & !ended;
  }
};

struct Walks {
  std::vector<Off> list;
  std::vector<unsigned> active;  // those that have not ended: `moving` of them
  std::vector<unsigned> asked;   // those at a node that asks their own player, or a special one
  std::size_t count = 0;
  std::size_t moving = 0;
  Pen pen(std::size_t more) {
    if (count + more > list.size()) {
      const std::size_t size = 2 * list.size() + more + 256;
      list.resize(size);
      active.resize(size);
      asked.resize(size);
    }
    return Pen{list.data(), active.data(), count, moving};
  }
  void take(const Pen& pen) {
    count = pen.count;
    moving = pen.moving;
  }
};

// Two numbers side by side, which processors add at once. on[b]: 1 where a bit of b is set.
typedef double Two __attribute__((vector_size(16), aligned(8), may_alias));
struct Switches {
  Two on[4] = {{0, 0}, {1, 0}, {0, 1}, {1, 1}};
};

template <class Lane>
struct Room {
  std::vector<Lane> given;  // [groups of the block * cells of columns * wide] the codes of the
                            // donors and the row's own
  std::size_t skip = 0;     // from where on they lie even in memory
  std::vector<double> own;  // [rows of the block * outputs] sums over trees of the rows as they are
  std::vector<double> sum;  // [groups of the block * cells of players * outputs * span] and what
                            // the shuffles change
  std::vector<Mask> left;   // [cells of players] repeats still on the real path
  Walks walks;
};

// Everything the walks of a group of rows share.
template <class W>
struct Group {
  const Coded* coded;
  const Coded::Step* steps;
  const int* player_of;
  const typename W::Lane* given;  // [cells of columns * wide]
  int rows, wide;
  int own;   // the row's own code stands behind those of so many repeats
  int span;  // room for the changes of all repeats
  const typename W::Lane* codes(unsigned column, unsigned row) const {
    return given + cell_of(column, row) * (W::once ? lanes_at_once<typename W::Lane> : wide);
  }
};

// A walk at a special node: the repeats in its mask, whose values are `given`, go on from there,
// those to `but` excepted. Returns those.
template <class W>
[[gnu::noinline]] Mask go_special(const Group<W>& g, const Off& walk, const typename W::Lane* given,
                                  int but, Walks* walks) {
  Mask stay = 0;
  part_mask(*g.coded, walk.at, given, walk.mask, [&](int where, Mask same) {
    if (where == but) {
      stay = same;
      return;
    }
    Pen pen = walks->pen(1);
    pen.put(Off{same, static_cast<unsigned>(where), walk.cell},
            where == static_cast<int>(walk.at) || g.coded->leaf(where));
    walks->take(pen);
  });
  return stay;
}

// The real paths, level by level, and the walks that leave them. ends[r] = where row r ends.
template <class W>
void leave_paths(const Group<W>& g, int root, const bool* skip, Mask all, Mask* left, Walks* walks,
                 unsigned* ends) {
  const Coded::Step* const steps = g.steps;
  const int* const player_of = g.player_of;
  const int own = g.own;
  unsigned active[group_rows];
  std::size_t moving = 0;
  for (int r = 0; r < g.rows; ++r) {
    ends[r] = root;
    active[moving] = r;
    moving += !skip[r];
  }
  if (g.coded->leaf(root)) return;
  while (moving > 0) {
    std::size_t kept = 0;
    Pen pen = walks->pen(moving);
    for (std::size_t j = 0; j < moving; ++j) {
      const unsigned r = active[j], at = ends[r];
      const Coded::Step& step = steps[at];
      const int player = player_of[step.column];
      const typename W::Lane* const codes = g.codes(step.column, r);
      const unsigned cell = player * group_rows + r;
      if (!step.special) {
        const Mask right = goes_right<W>(step, codes, g.wide);
        const unsigned side = right >> own & 1, next = step.left + side, ended = step.ends;
        ends[r] = next;
        active[kept] = r;
        kept += ~(ended >> side) & 1;
        if (player >= 0) {
          const Mask off = left[cell] & (right ^ -static_cast<Mask>(side));
          left[cell] ^= off;
          pen.put(Off{off, step.left + 1 - side, cell}, ended >> (1 - side) & 1);
        }
      } else {
        const unsigned next = g.coded->next(at, widen(codes[own]));
        if (player >= 0) {
          walks->take(pen);
          left[cell] = go_special(g, Off{left[cell], at, cell}, codes, next, walks);
          pen = walks->pen(moving);
        }
        ends[r] = next;
        active[kept] = r;
        kept += next != at && !g.coded->leaf(next);
      }
    }
    walks->take(pen);
    moving = kept;
  }
  for (std::size_t w = 0; w < walks->count; ++w) left[walks->list[w].cell] = all;
}

// One step of every walk. Those that come to a node about their own player are set aside, so that
// the rest is the same few instructions for all.
template <class W>
std::size_t step_all(const Group<W>& g, Walks* walks) {
  const Coded::Step* const steps = g.steps;
  const int* const player_of = g.player_of;
  const int own = g.own;
  const std::size_t moving = walks->moving;
  unsigned* const active = walks->active.data();
  Off* const list = walks->list.data();
  unsigned* const asked = walks->asked.data();
  std::size_t kept = 0, aside = 0;
  for (std::size_t j = 0; j < moving; ++j) {
    const unsigned w = active[j];
    Off& walk = list[w];
    const unsigned at = walk.at;
    const Coded::Step& step = steps[at];
    const bool right = leads_right<W>(step, g.codes(step.column, walk.row())[own]);
    const bool wait = (player_of[step.column] == walk.player()) | step.special;
    const bool ended = step.ends >> right & 1;
    const unsigned next = step.left + right;
    walk.at = wait ? at : next;
    __builtin_prefetch(steps + next);
    asked[aside] = w;
    aside += wait;
    active[kept] = w;
    kept += !(ended | wait);
  }
  walks->moving = kept;
  return aside;
}

// One step of the walks set aside: their masks are parted by where each repeat goes.
template <class W>
void part_asked(const Group<W>& g, std::size_t aside, Walks* walks) {
  Pen pen = walks->pen(aside);
  for (std::size_t j = 0; j < aside; ++j) {
    const unsigned w = walks->asked[j];
    const Off walk = pen.list[w];
    const Coded::Step& step = g.steps[walk.at];
    const typename W::Lane* const codes = g.codes(step.column, walk.row());
    if (!step.special) {
      const Mask right = walk.mask & goes_right<W>(step, codes, g.wide), rest = walk.mask & ~right;
      const bool any = right != 0;
      pen.list[w].at = step.left + any;
      pen.list[w].mask = any ? right : rest;
      pen.active[pen.moving] = w;
      pen.moving += !(step.ends >> any & 1);
      pen.put(Off{any ? rest : 0, static_cast<unsigned>(step.left), walk.cell}, step.ends & 1);
    } else if (g.player_of[step.column] == walk.player()) {
      pen.list[w].mask = 0;
      walks->take(pen);
      go_special(g, walk, codes, -1, walks);
      pen = walks->pen(aside);
    } else {
      const unsigned next = g.coded->next(walk.at, widen(codes[g.own]));
      pen.list[w].at = next;
      pen.active[pen.moving] = w;
      pen.moving += !(next == walk.at || g.coded->leaf(next));
    }
  }
  walks->take(pen);
}

// What the walks' ends change.
template <class W>
void add_changes(const Group<W>& g, const Walks& walks, const unsigned* ends,
                 const Switches& switches, int outputs, double* sum) {
  for (std::size_t w = 0; w < walks.count; ++w) {
    const Off& walk = walks.list[w];
    const double* here = g.coded->output(ends[walk.row()]);
    const double* there = g.coded->output(walk.at);
    double* to = sum + static_cast<std::size_t>(walk.cell) * outputs * g.span;
    for (int k = 0; k < outputs; ++k, to += g.span) {
      const double by = there[k] - here[k];
      const Two both = {by, by};
      Mask mask = walk.mask;
      Two* two = reinterpret_cast<Two*>(to);
      for (int q = 0; q < g.span; q += 2, mask >>= 2) *two++ += both * switches.on[mask & 3];
    }
  }
}

// Everything of a group of rows in one tree.
template <class W>
void shuffle_group(const Group<W>& g, int root, const bool* skip, Mask all, int outputs,
                   const Switches& switches, double* own, double* sum,
                   Room<typename W::Lane>* room) {
  Walks& walks = room->walks;
  walks.count = walks.moving = 0;
  unsigned ends[group_rows];
  leave_paths(g, root, skip, all, room->left.data(), &walks, ends);
  for (int r = 0; r < g.rows; ++r)
    if (!skip[r]) {
      for (int k = 0; k < outputs; ++k) own[r * outputs + k] += g.coded->output(ends[r])[k];
    }
  while (walks.moving > 0) {
    const std::size_t aside = step_all(g, &walks);
    if (aside > 0) part_asked(g, aside, &walks);
  }
  add_changes(g, walks, ends, switches, outputs, sum);
}

}  // namespace dreher
