// A hash of a text that is the same on every machine and in every version: FNV-1a over the bytes
// (Fowler, Noll and Vo), stretched by the mixing function of splitmix64 (Steele, Lea and Flood
// 2014). Not for secrets.
#pragma once
#include <cstdint>
#include <string>

namespace dreher {

inline void hash_words(const std::string& text, int n, std::uint32_t* words) {
  std::uint64_t state = 14695981039346656037ULL;
  for (unsigned char byte : text) state = (state ^ byte) * 1099511628211ULL;
  for (int i = 0; i < n; ++i) {
    state += 0x9E3779B97F4A7C15ULL;
    std::uint64_t x = state;
    x = (x ^ (x >> 30)) * 0xBF58476D1CE4E5B9ULL;
    x = (x ^ (x >> 27)) * 0x94D049BB133111EBULL;
    words[i] = static_cast<std::uint32_t>((x ^ (x >> 31)) >> 32);
  }
}

}  // namespace dreher
