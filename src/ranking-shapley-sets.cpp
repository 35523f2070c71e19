#include "ranking-shapley-sets.h"

#include <algorithm>

namespace dreher {

namespace {

DREHER_CLONES void at_most(const double* x, int count, double threshold, char* out) {
  for (int i = 0; i < count; ++i) out[i] = x[i] <= threshold;
}

DREHER_CLONES void to_bits(const char* x, int count, Word* out) {
  std::fill(out, out + (count + 63) / 64, 0);
  for (int i = 0; i < count; ++i) out[i / 64] |= static_cast<Word>(x[i]) << i % 64;
}

}  // namespace

SetWalk::SetWalk(const Forest& forest, const Division& division, const Weights& weights,
                 const std::vector<char>& gaps, int longest, int block)
    : f_(forest),
      division_(division),
      gaps_(gaps),
      leaves_(forest, weights, std::min({longest, division.players, most_players}), block),
      bit_of_(division.players, -1),
      other_goes_(static_cast<std::size_t>(most_children) * most_others) {
  for (int d = 0; d <= longest; ++d) frame_.push_back(std::make_unique<Frame>());
}

void SetWalk::run(int tree, const Table& rows, std::ptrdiff_t from, std::ptrdiff_t to,
                  const Loop& loop, int thread, double* phi, std::ptrdiff_t apart) {
  const Table& others = *division_.background;
  row_ = Side{&rows, from, static_cast<int>(to - from)};
  scale_ = f_.weight[tree] / static_cast<double>(others.rows);
  phi_ = phi;
  apart_ = apart;
  loop_ = &loop;
  thread_ = thread;
  Frame& top = *frame_[0];
  top.rows.group.assign(1, RowGroups::Group{0, 0, 0, row_.count});
  top.rows.row.resize(row_.count);
  for (int i = 0; i < row_.count; ++i) top.rows.row[i] = i;
  top.others.group.assign(1, OtherGroups::Group{0, 0});
  for (std::ptrdiff_t first = 0; first < others.rows; first += most_others) {
    const int count = static_cast<int>(std::min<std::ptrdiff_t>(others.rows - first, most_others));
    other_ = Side{&others, first, count};
    words_ = (count + 63) / 64;
    std::vector<Word> all(words_, ~Word{0});
    if (count % 64 != 0) all.back() = (Word{1} << count % 64) - 1;
    top.rows.partners = all;
    top.others.row = all;
    satisfied_.resize(static_cast<std::size_t>(most_players) * words_);
    if (f_.column[f_.root[tree]] >= 0) walk(f_.root[tree], 0);
  }
}

void SetWalk::walk(int node, int depth) {
  Frame& frame = *frame_[depth];
  if (loop_->asks_to_stop(thread_)) return;
  const int player = division_.player_of[f_.column[node]];
  const bool fresh = bit_of_[player] < 0;
  if (fresh) {
    bit_of_[player] = met_++;
    std::fill_n(satisfied_.begin() + bit_of_[player] * words_, words_, ~Word{0});
  }
  const int bit = bit_of_[player];
  Word* const satisfied = satisfied_.data() + bit * words_;
  frame.satisfied.assign(satisfied, satisfied + words_);
  ask(node, &frame.answer);
  leaves_.add(frame.rows, frame.others, frame.answer, bit, met_, scale_);
  for (int j = 0; j < frame.answer.children; ++j) {
    if (frame.answer.value[j] != nullptr) continue;
    if (!step(frame, bit, j, frame_[depth + 1].get())) continue;
    const Word* const goes = frame.answer.others.data() + j * words_;
    for (int w = 0; w < words_; ++w) satisfied[w] = frame.satisfied[w] & goes[w];
    walk(frame.answer.child[j], depth + 1);
    std::copy(frame.satisfied.begin(), frame.satisfied.end(), satisfied);
  }
  if (!fresh) return;
  leaves_.hand_over(bit, frame.rows,
                    phi_ + static_cast<std::ptrdiff_t>(player) * f_.n_outputs * apart_, apart_);
  bit_of_[player] = -1;
  --met_;
}

void SetWalk::ask(int node, Answer* to) {
  to->child[0] = f_.left[node];
  to->child[1] = f_.right[node];
  to->children = 2;
  if (!asks_number(node) && f_.missing[node] != f_.left[node] && f_.missing[node] != f_.right[node])
    to->child[to->children++] = f_.missing[node];
  for (int j = 0; j < to->children; ++j) {
    const int end = to->child[j] < 0 ? node : to->child[j];  // they stay for want of a value
    const bool ends = to->child[j] < 0 || f_.column[end] < 0;
    to->value[j] = ends ? f_.value + static_cast<std::ptrdiff_t>(end) * f_.n_outputs : nullptr;
  }
  to->rows.resize(to->children * row_.count);
  to->others.resize(to->children * words_);
  sort_by_answer(node, row_, *to, to->rows.data());
  sort_by_answer(node, other_, *to, other_goes_.data());
  for (int j = 0; j < to->children; ++j)
    to_bits(other_goes_.data() + j * other_.count, other_.count, to->others.data() + j * words_);
}

void SetWalk::sort_by_answer(int node, const Side& side, const Answer& answer, char* goes) const {
  const double* const x = side.table->column[f_.column[node]] + side.from;
  const int n = side.count;
  if (asks_number(node)) {
    at_most(x, n, f_.threshold[node], goes);
    for (int i = 0; i < n; ++i) goes[n + i] = 1 - goes[i];
    return;
  }
  std::fill(goes, goes + answer.children * n, 0);
  for (int i = 0; i < n; ++i) {
    const int next = f_.after(node, x[i]);
    int j = 0;
    while (answer.child[j] != next) ++j;
    goes[j * n + i] = 1;
  }
}

// False where nothing is left that counts.
bool SetWalk::step(const Frame& frame, int bit, int child, Frame* next) {
  const Word* const others_go = frame.answer.others.data() + child * words_;
  step_rows(frame.rows, bit, frame.answer.rows.data() + child * row_.count, others_go, &next->rows);
  next->alive.assign(words_, 0);
  for (const RowGroups::Group& group : next->rows.group)
    for (int w = 0; w < words_; ++w) next->alive[w] |= next->rows.partners[group.slot * words_ + w];
  step_others(frame.others, bit, others_go, next->alive.data(), &next->others);
  return !next->rows.group.empty();
}

namespace {

// Goes through the groups without and with a bit in step: visit(set, without, with), the set
// without the bit and the groups, nullptr where there is none.
template <class Group, class Visit>
__attribute__((always_inline)) inline void each_pair(const std::vector<Group>& groups, Word bit,
                                                     Visit visit) {
  const Group* const end = groups.data() + groups.size();
  const Group* without = groups.data();
  const Group* with = groups.data();
  while (true) {
    while (without != end && (without->failed & bit) != 0) ++without;
    while (with != end && (with->failed & bit) == 0) ++with;
    if (without == end && with == end) return;
    const Word a = without != end ? without->failed : ~Word{0};
    const Word b = with != end ? with->failed ^ bit : ~Word{0};
    visit(std::min(a, b), a <= b ? without : nullptr, b <= a ? with : nullptr);
    without += a <= b;
    with += b <= a;
  }
}

template <class Group>
void merge(const std::vector<Group>& a, const std::vector<Group>& b, std::vector<Group>* to) {
  to->resize(a.size() + b.size());
  std::merge(a.begin(), a.end(), b.begin(), b.end(), to->begin(),
             [](const Group& x, const Group& y) { return x.failed < y.failed; });
}

}  // namespace

// The rows that go on without a failure stand in the first half of `row`, the others in the second.
void SetWalk::step_rows(const RowGroups& from, int bit, const char* goes, const Word* others_go,
                        RowGroups* to) {
  const int V = words_;
  const Word mark = Word{1} << bit;
  const Word* const satisfied = satisfied_.data() + bit * V;
  const std::size_t most = from.group.size();
  rows_with_.resize(most);
  rows_without_.resize(most);
  to->row.resize(2 * static_cast<std::size_t>(row_.count) + 2);
  to->partners.resize(2 * most * V);
  const int* const old_row = from.row.data();
  const Word* const old_partners = from.partners.data();
  int* const row = to->row.data();
  Word* partners = to->partners.data();
  RowGroups::Group* with_end = rows_with_.data();
  RowGroups::Group* without_end = rows_without_.data();
  int slot = 0, at = 0, behind = row_.count + 1;
  each_pair(from.group, mark,
            [&](Word set, const RowGroups::Group* without, const RowGroups::Group* with) {
              const int first = at, second = behind;
              if (without != nullptr)
                for (int i = without->from; i < without->to; ++i) {
                  const int r = old_row[i], stays = goes[r];
                  row[at] = row[behind] = r;
                  at += stays;
                  behind += 1 - stays;
                }
              if (with != nullptr)
                for (int i = with->from; i < with->to; ++i) row[behind++] = old_row[i];
              if (at > first) {
                const Word* const old = old_partners + without->slot * V;
                for (int w = 0; w < V; ++w) partners[w] = old[w];
                *without_end++ = RowGroups::Group{set, slot++, first, at};
                partners += V;
              }
              if (behind == second) return;
              Word left = 0;
              if (with != nullptr) {
                const Word* const old = old_partners + with->slot * V;
                for (int w = 0; w < V; ++w) left |= partners[w] = old[w] & others_go[w];
              } else {
                const Word* const old = old_partners + without->slot * V;
                for (int w = 0; w < V; ++w)
                  left |= partners[w] = old[w] & others_go[w] & satisfied[w];
              }
              if (left == 0) {
                behind = second;
                return;
              }
              *with_end++ = RowGroups::Group{set | mark, slot++, second, behind};
              partners += V;
            });
  rows_with_.resize(with_end - rows_with_.data());
  rows_without_.resize(without_end - rows_without_.data());
  merge(rows_without_, rows_with_, &to->group);
}

void SetWalk::step_others(const OtherGroups& from, int bit, const Word* goes, const Word* alive,
                          OtherGroups* to) {
  const int V = words_;
  const Word mark = Word{1} << bit;
  others_with_.clear();
  others_without_.clear();
  to->row.resize(2 * from.group.size() * V);
  int slot = 0;
  each_pair(from.group, mark,
            [&](Word set, const OtherGroups::Group* without, const OtherGroups::Group* with) {
              const Word* const stay = without ? from.row.data() + without->slot * V : nullptr;
              const Word* const failed = with ? from.row.data() + with->slot * V : nullptr;
              Word* row = to->row.data() + slot * V;
              Word found = 0;
              for (int w = 0; w < V; ++w)
                found |= row[w] = (stay ? stay[w] : 0) & goes[w] & alive[w];
              if (found != 0) {
                others_without_.push_back(OtherGroups::Group{set, slot++});
                row += V;
                found = 0;
              }
              for (int w = 0; w < V; ++w)
                found |= row[w] =
                    ((failed ? failed[w] : 0) | ((stay ? stay[w] : 0) & ~goes[w])) & alive[w];
              if (found != 0) others_with_.push_back(OtherGroups::Group{set | mark, slot++});
            });
  merge(others_without_, others_with_, &to->group);
}

}  // namespace dreher
