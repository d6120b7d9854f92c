// A VA-API driver that says what it can and does nothing: it decodes H.264 and H.265, and encodes H.264. libva loads it
// by name (LIBVA_DRIVER_NAME=standin) from LIBVA_DRIVERS_PATH, whatever device was opened.
#include <va/va_backend.h>

#include <algorithm>
#include <cstring>
#include <iterator>

namespace {

VAStatus nothing() {
    return VA_STATUS_SUCCESS;
}

VAStatus profiles(VADriverContextP /*context*/, VAProfile* list, int* count) {
    constexpr VAProfile kAll[] = {VAProfileH264Main, VAProfileH264High, VAProfileHEVCMain10, VAProfileNone};
    std::copy(std::begin(kAll), std::end(kAll), list);
    *count = 4;
    return VA_STATUS_SUCCESS;
}

VAStatus entry_points(VADriverContextP /*context*/, VAProfile profile, VAEntrypoint* list, int* count) {
    *count = 0;
    if (profile == VAProfileNone) {
        list[(*count)++] = VAEntrypointVideoProc;
        return VA_STATUS_SUCCESS;
    }
    list[(*count)++] = VAEntrypointVLD;
    if (profile == VAProfileH264High) list[(*count)++] = VAEntrypointEncSlice;
    return VA_STATUS_SUCCESS;
}

}  // namespace

#define INIT_NAME_OF(major, minor) __vaDriverInit_##major##_##minor
#define INIT_NAME(major, minor) INIT_NAME_OF(major, minor)

extern "C" VAStatus INIT_NAME(VA_MAJOR_VERSION, VA_MINOR_VERSION)(VADriverContextP context) {
    // libva refuses a driver without one of the usual functions.
    auto* const functions = reinterpret_cast<VAStatus (**)()>(context->vtable);
    std::fill_n(functions, sizeof(*context->vtable) / sizeof(void*), nothing);
    context->version_major = VA_MAJOR_VERSION;
    context->version_minor = VA_MINOR_VERSION;
    context->max_profiles = 4;
    context->max_entrypoints = 2;
    context->max_attributes = 1;
    context->max_image_formats = 1;
    context->max_subpic_formats = 1;
    context->max_display_attributes = 1;
    context->str_vendor = "Stand-in driver";
    context->vtable->vaQueryConfigProfiles = profiles;
    context->vtable->vaQueryConfigEntrypoints = entry_points;
    return VA_STATUS_SUCCESS;
}
