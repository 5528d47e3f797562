// Drives one fuzz target for a bounded time: seeds from files, changed at random from a fixed start, so that
// a run can be repeated. Built with the sanitizers, any crash, hang, overflow or leak ends it.
#include <chrono>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <fstream>
#include <iterator>
#include <random>
#include <string>
#include <vector>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size);

namespace {

const char* const kPieces[] = {"null",    "true",   "-1",  "1e308",    "-0",
                               "\"\"",    "[]",     "{}",  "[[[[",     "99999999999999999999",
                               "\\u0000", "\"%n\"", "NaN", "\xff\xfe", "0.0000001"};

std::string changed(std::string s, std::mt19937& random, const std::vector<std::string>& seeds) {
    const auto at = [&](std::size_t size) { return size ? random() % size : 0; };
    for (unsigned i = 0, n = 1 + random() % 6; i < n; ++i) {
        switch (random() % 7) {
        case 0:
            if (!s.empty()) s[at(s.size())] = char(random());
            break;
        case 1:
            s.insert(at(s.size() + 1), 1, char(random()));
            break;
        case 2:
            if (!s.empty()) s.erase(at(s.size()), 1 + random() % 20);
            break;
        case 3:
            s.insert(at(s.size() + 1), kPieces[random() % std::size(kPieces)]);
            break;
        case 4:
            s.resize(at(s.size() + 1));
            break;
        case 5: { // a number somewhere becomes another
            const auto digit = s.find_first_of("0123456789", at(s.size()));
            if (digit != s.npos) s.replace(digit, 1 + random() % 3, kPieces[random() % std::size(kPieces)]);
            break;
        }
        default: {
            const std::string& other = seeds[random() % seeds.size()];
            const auto from = at(other.size());
            s.insert(at(s.size() + 1), other.substr(from, random() % 200));
        }
        }
    }
    return s;
}

} // namespace

int main(int argc, char** argv) {
    if (argc < 3) {
        std::fprintf(stderr, "usage: %s SECONDS SEED_FILE...\n", argv[0]);
        return 2;
    }
    std::vector<std::string> seeds;
    for (int i = 2; i < argc; ++i) {
        std::ifstream in(argv[i], std::ios::binary);
        seeds.emplace_back(std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>());
    }
    std::mt19937 random(20240601);
    const auto end =
        std::chrono::steady_clock::now() + std::chrono::milliseconds(long(1000 * std::atof(argv[1])));
    long runs = 0;
    std::vector<std::string> kept = seeds;
    while (std::chrono::steady_clock::now() < end || runs < 200) {
        const std::string input = changed(kept[random() % kept.size()], random, seeds);
        LLVMFuzzerTestOneInput(reinterpret_cast<const std::uint8_t*>(input.data()), input.size());
        if (random() % 50 == 0 && kept.size() < 500 && input.size() < 100000) kept.push_back(input);
        ++runs;
    }
    std::printf("%ld inputs\n", runs);
    return runs > 0 ? 0 : 1;
}
