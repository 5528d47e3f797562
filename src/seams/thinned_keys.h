#pragma once

#include <cstddef>
#include <vector>

namespace porb {

/// Of keys in order of time those that even movement between them does not stand for (Douglas and Peucker
/// 1973): the first, the last, and what is off by more than `most`. `off(a, b, key)` says how far a key is
/// from where the movement from a to b has it at its time.
template <class Key, class Off>
std::vector<Key> thinned_keys(const std::vector<Key>& all, double most, const Off& off) {
    if (all.size() < 2) return all;
    std::vector<Key> kept = {all.front()};
    const auto between = [&](const auto& self, std::size_t first, std::size_t last) -> void {
        double farthest = most;
        std::size_t worst = 0;
        for (std::size_t i = first + 1; i < last; ++i)
            if (const double o = off(all[first], all[last], all[i]); o > farthest) farthest = o, worst = i;
        if (worst == 0) return;
        self(self, first, worst);
        kept.push_back(all[worst]);
        self(self, worst, last);
    };
    between(between, 0, all.size() - 1);
    kept.push_back(all.back());
    return kept;
}

} // namespace porb
