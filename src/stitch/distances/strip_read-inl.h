// Reading a strip between its places, for kernels; included once for each kind of processor, inside no
// namespace.
#if defined(PORB_STRIP_READ_INL_H) == defined(HWY_TARGET_TOGGLE)
#ifdef PORB_STRIP_READ_INL_H
#undef PORB_STRIP_READ_INL_H
#else
#define PORB_STRIP_READ_INL_H
#endif

#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace porb::HWY_NAMESPACE {

/// The first of the two places of `size` between which something is read, and how far past it that lies.
template <class D, class Di, class V, class Vi>
HWY_ATTR inline V between_places(D d, Di di, V at, int size, Vi& first) {
    namespace hn = hwy::HWY_NAMESPACE;
    const V c = hn::Min(hn::Max(hn::Sub(at, hn::Set(d, 0.5f)), hn::Zero(d)), hn::Set(d, float(size - 1)));
    first = hn::Min(hn::ConvertTo(di, c), hn::Set(di, size - 2));
    return hn::Sub(c, hn::ConvertTo(d, first));
}

} // namespace porb::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#endif
