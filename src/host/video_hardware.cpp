#include "host/video_hardware.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/videodev2.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>
#include <va/va.h>
#include <va/va_drm.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <optional>

#include "base/file.hpp"

namespace wavecrest::host {
namespace {

class Handle {
  public:
    explicit Handle(const std::string& path) : handle_(::open(path.c_str(), O_RDWR | O_CLOEXEC | O_NONBLOCK)) {}
    ~Handle() {
        if (handle_ >= 0) ::close(handle_);
    }
    Handle(const Handle&) = delete;
    Handle& operator=(const Handle&) = delete;
    int get() const { return handle_; }

  private:
    int handle_;
};

void add_once(std::vector<std::string>& codecs, const char* codec) {
    if (codec != nullptr && std::find(codecs.begin(), codecs.end(), codec) == codecs.end()) codecs.push_back(codec);
}

// VAProfile of va.h.
const char* codec_of(VAProfile profile) {
    switch (profile) {
        case VAProfileMPEG2Simple:
        case VAProfileMPEG2Main:
            return "MPEG-2";
        case VAProfileMPEG4Simple:
        case VAProfileMPEG4AdvancedSimple:
        case VAProfileMPEG4Main:
            return "MPEG-4 part 2";
        case VAProfileH264ConstrainedBaseline:
        case VAProfileH264Main:
        case VAProfileH264High:
            return "H.264";
        case VAProfileVC1Simple:
        case VAProfileVC1Main:
        case VAProfileVC1Advanced:
            return "VC-1";
        case VAProfileVP8Version0_3:
            return "VP8";
        case VAProfileHEVCMain:
            return "H.265";
        case VAProfileHEVCMain10:
            return "H.265 10-bit";
        case VAProfileVP9Profile0:
            return "VP9";
        case VAProfileVP9Profile2:
            return "VP9 10-bit";
        case VAProfileAV1Profile0:
            return "AV1";
        default:
            return nullptr;
    }
}

// Drivers print what they do to standard error: not here.
void say_nothing(void* /*context*/, const char* /*message*/) {}

VideoHardware ask_va(const std::string& device) {
    VideoHardware found;
    found.device = device;
    const Handle handle(device);
    if (handle.get() < 0) {
        found.problem = base::system_reason(errno);
        return found;
    }
    const VADisplay display = ::vaGetDisplayDRM(handle.get());
    if (display == nullptr) {
        found.problem = "no render node";
        return found;
    }
    ::vaSetErrorCallback(display, say_nothing, nullptr);
    ::vaSetInfoCallback(display, say_nothing, nullptr);
    int major = 0, minor = 0;
    if (const VAStatus status = ::vaInitialize(display, &major, &minor); status != VA_STATUS_SUCCESS) {
        found.problem = fmt::format("no VA-API driver for it is installed ({})", ::vaErrorStr(status));
        ::vaTerminate(display);
        return found;
    }
    if (const char* vendor = ::vaQueryVendorString(display); vendor != nullptr) found.name = vendor;
    std::vector<VAProfile> profiles(static_cast<std::size_t>(std::max(0, ::vaMaxNumProfiles(display))));
    int count = 0;
    if (::vaQueryConfigProfiles(display, profiles.data(), &count) != VA_STATUS_SUCCESS) count = 0;
    for (int i = 0; i < count; ++i) {
        const char* codec = codec_of(profiles[static_cast<std::size_t>(i)]);
        if (codec == nullptr) continue;
        std::vector<VAEntrypoint> points(static_cast<std::size_t>(std::max(0, ::vaMaxNumEntrypoints(display))));
        int point_count = 0;
        if (::vaQueryConfigEntrypoints(display, profiles[static_cast<std::size_t>(i)], points.data(), &point_count) !=
            VA_STATUS_SUCCESS)
            continue;
        for (int k = 0; k < point_count; ++k) {
            const VAEntrypoint point = points[static_cast<std::size_t>(k)];
            if (point == VAEntrypointVLD) add_once(found.decodes, codec);
            if (point == VAEntrypointEncSlice || point == VAEntrypointEncSliceLP || point == VAEntrypointEncPicture)
                add_once(found.encodes, codec);
        }
    }
    ::vaTerminate(display);
    return found;
}

// V4L2_PIX_FMT_ of videodev2.h; those of decoders that get parsed slices, too.
const char* codec_of(std::uint32_t format) {
    switch (format) {
        case V4L2_PIX_FMT_MPEG1:
            return "MPEG-1";
        case V4L2_PIX_FMT_MPEG2:
        case V4L2_PIX_FMT_MPEG2_SLICE:
            return "MPEG-2";
        case V4L2_PIX_FMT_MPEG4:
        case V4L2_PIX_FMT_XVID:
            return "MPEG-4 part 2";
        case V4L2_PIX_FMT_H264:
        case V4L2_PIX_FMT_H264_NO_SC:
        case V4L2_PIX_FMT_H264_SLICE:
            return "H.264";
        case V4L2_PIX_FMT_VC1_ANNEX_G:
        case V4L2_PIX_FMT_VC1_ANNEX_L:
            return "VC-1";
        case V4L2_PIX_FMT_VP8:
        case V4L2_PIX_FMT_VP8_FRAME:
            return "VP8";
        case V4L2_PIX_FMT_VP9:
        case V4L2_PIX_FMT_VP9_FRAME:
            return "VP9";
        case V4L2_PIX_FMT_HEVC:
        case v4l2_fourcc('S', '2', '6', '5'):
            return "H.265";
        default:
            return nullptr;
    }
}

void list_formats(int handle, std::uint32_t type, std::vector<std::string>& codecs) {
    v4l2_fmtdesc format{};
    format.type = type;
    // (Bounded, whatever a driver answers.)
    for (format.index = 0; format.index < 256 && ::ioctl(handle, VIDIOC_ENUM_FMT, &format) == 0; ++format.index)
        add_once(codecs, codec_of(format.pixelformat));
}

// Nothing for cameras and tuners.
std::optional<VideoHardware> ask_v4l2(const std::string& device) {
    const Handle handle(device);
    VideoHardware found;
    found.device = device;
    if (handle.get() < 0) {
        found.problem = base::system_reason(errno);
        return found;
    }
    v4l2_capability capability{};
    if (::ioctl(handle.get(), VIDIOC_QUERYCAP, &capability) != 0) return std::nullopt;
    const std::uint32_t able =
        (capability.capabilities & V4L2_CAP_DEVICE_CAPS) != 0 ? capability.device_caps : capability.capabilities;
    const bool planes = (able & V4L2_CAP_VIDEO_M2M_MPLANE) != 0;
    if (!planes && (able & V4L2_CAP_VIDEO_M2M) == 0) return std::nullopt;
    const char* name = reinterpret_cast<const char*>(capability.card);
    found.name = std::string(name, ::strnlen(name, sizeof(capability.card)));
    // What goes in is "output" to the application, what comes out is "captured".
    list_formats(handle.get(), planes ? V4L2_BUF_TYPE_VIDEO_OUTPUT_MPLANE : V4L2_BUF_TYPE_VIDEO_OUTPUT, found.decodes);
    list_formats(handle.get(), planes ? V4L2_BUF_TYPE_VIDEO_CAPTURE_MPLANE : V4L2_BUF_TYPE_VIDEO_CAPTURE,
                 found.encodes);
    if (found.decodes.empty() && found.encodes.empty()) return std::nullopt;
    return found;
}

std::vector<std::string> devices_in(const std::string& folder, std::string_view prefix) {
    std::vector<std::string> found;
    std::error_code error;
    for (std::filesystem::directory_iterator it(folder, error), end; !error && it != end; it.increment(error)) {
        if (it->path().filename().string().starts_with(prefix)) found.push_back(it->path().string());
    }
    std::sort(found.begin(), found.end());
    return found;
}

}  // namespace

std::vector<VideoHardware> video_hardware(const std::string& devices) {
    std::vector<VideoHardware> all;
    for (const std::string& device : devices_in(devices + "/dri", "renderD")) all.push_back(ask_va(device));
    for (const std::string& device : devices_in(devices, "video")) {
        if (auto found = ask_v4l2(device)) all.push_back(std::move(*found));
    }
    return all;
}

}  // namespace wavecrest::host
