#include "media/digest.h"

#include <fmt/format.h>

#include <cstdint>
#include <memory>
#include <new>

extern "C" {
#include <libavutil/mem.h>
#include <libavutil/sha.h>
}

namespace porb {

std::string sha256_hex(std::string_view bytes, char before) {
    const std::unique_ptr<AVSHA, void (*)(void*)> sha(av_sha_alloc(), av_free);
    if (!sha) throw std::bad_alloc();
    av_sha_init(sha.get(), 256);
    av_sha_update(sha.get(), reinterpret_cast<const std::uint8_t*>(&before), 1);
    av_sha_update(sha.get(), reinterpret_cast<const std::uint8_t*>(bytes.data()), bytes.size());
    std::uint8_t digest[32];
    av_sha_final(sha.get(), digest);
    std::string out;
    for (const std::uint8_t b : digest) out += fmt::format("{:02x}", b);
    return out;
}

} // namespace porb
