// Hardware that decodes or encodes video, as the system offers it: render nodes by VA-API, and memory-to-memory devices
// of Video4Linux. It is listed for people; the program doesn't use it.
#pragma once

#include <string>
#include <vector>

namespace wavecrest::host {

struct VideoHardware {
    std::string device;                // "/dev/dri/renderD128"
    std::string name;                  // of its driver, as it calls itself
    std::vector<std::string> decodes;  // codecs: "H.264", each once
    std::vector<std::string> encodes;  // the same
    std::string problem;               // why it couldn't be asked; else empty
};
// All of /dev/dri and /dev, or of the folder given, by their names.
std::vector<VideoHardware> video_hardware(const std::string& devices = "/dev");

}  // namespace wavecrest::host
