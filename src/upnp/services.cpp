#include "upnp/services.hpp"

#include <fmt/format.h>

#include "upnp/xml.hpp"

namespace wavecrest::upnp {
namespace {

ArgumentSpec in(std::string name, std::string variable) {
    return {std::move(name), true, std::move(variable)};
}
ArgumentSpec out(std::string name, std::string variable) {
    return {std::move(name), false, std::move(variable)};
}
ArgumentSpec instance() {
    return in("InstanceID", "A_ARG_TYPE_InstanceID");
}
StateVariable plain(std::string name, std::string type = "string") {
    return {std::move(name), std::move(type), false, {}, 0, 0};
}
StateVariable evented(std::string name, std::string type = "string") {
    return {std::move(name), std::move(type), true, {}, 0, 0};
}
ServiceSpec service(const char* name) {
    return {
        fmt::format("urn:schemas-upnp-org:service:{}:1", name), fmt::format("urn:upnp-org:serviceId:{}", name), {}, {}};
}

}  // namespace

std::string ServiceSpec::name() const {
    return id.substr(id.rfind(':') + 1);
}

ServiceSpec av_transport() {
    ServiceSpec s = service("AVTransport");
    s.variables = {
        {"TransportState",
         "string",
         false,
         {"STOPPED", "PLAYING", "TRANSITIONING", "PAUSED_PLAYBACK", "NO_MEDIA_PRESENT"},
         0,
         0},
        {"TransportStatus", "string", false, {"OK", "ERROR_OCCURRED"}, 0, 0},
        plain("PlaybackStorageMedium"),
        plain("RecordStorageMedium"),
        plain("PossiblePlaybackStorageMedia"),
        plain("PossibleRecordStorageMedia"),
        {"CurrentPlayMode", "string", false, {"NORMAL"}, 0, 0},
        {"TransportPlaySpeed", "string", false, {"1"}, 0, 0},
        plain("RecordMediumWriteStatus"),
        plain("CurrentRecordQualityMode"),
        plain("PossibleRecordQualityModes"),
        plain("NumberOfTracks", "ui4"),
        plain("CurrentTrack", "ui4"),
        plain("CurrentTrackDuration"),
        plain("CurrentMediaDuration"),
        plain("CurrentTrackMetaData"),
        plain("CurrentTrackURI"),
        plain("AVTransportURI"),
        plain("AVTransportURIMetaData"),
        plain("NextAVTransportURI"),
        plain("NextAVTransportURIMetaData"),
        plain("RelativeTimePosition"),
        plain("AbsoluteTimePosition"),
        plain("RelativeCounterPosition", "i4"),
        plain("AbsoluteCounterPosition", "i4"),
        plain("CurrentTransportActions"),
        evented("LastChange"),
        {"A_ARG_TYPE_SeekMode", "string", false, {"REL_TIME", "ABS_TIME", "TRACK_NR"}, 0, 0},
        plain("A_ARG_TYPE_SeekTarget"),
        plain("A_ARG_TYPE_InstanceID", "ui4"),
    };
    s.actions = {
        {"SetAVTransportURI",
         {instance(), in("CurrentURI", "AVTransportURI"), in("CurrentURIMetaData", "AVTransportURIMetaData")}},
        {"GetMediaInfo",
         {instance(), out("NrTracks", "NumberOfTracks"), out("MediaDuration", "CurrentMediaDuration"),
          out("CurrentURI", "AVTransportURI"), out("CurrentURIMetaData", "AVTransportURIMetaData"),
          out("NextURI", "NextAVTransportURI"), out("NextURIMetaData", "NextAVTransportURIMetaData"),
          out("PlayMedium", "PlaybackStorageMedium"), out("RecordMedium", "RecordStorageMedium"),
          out("WriteStatus", "RecordMediumWriteStatus")}},
        {"GetTransportInfo",
         {instance(), out("CurrentTransportState", "TransportState"), out("CurrentTransportStatus", "TransportStatus"),
          out("CurrentSpeed", "TransportPlaySpeed")}},
        {"GetPositionInfo",
         {instance(), out("Track", "CurrentTrack"), out("TrackDuration", "CurrentTrackDuration"),
          out("TrackMetaData", "CurrentTrackMetaData"), out("TrackURI", "CurrentTrackURI"),
          out("RelTime", "RelativeTimePosition"), out("AbsTime", "AbsoluteTimePosition"),
          out("RelCount", "RelativeCounterPosition"), out("AbsCount", "AbsoluteCounterPosition")}},
        {"GetDeviceCapabilities",
         {instance(), out("PlayMedia", "PossiblePlaybackStorageMedia"), out("RecMedia", "PossibleRecordStorageMedia"),
          out("RecQualityModes", "PossibleRecordQualityModes")}},
        {"GetTransportSettings",
         {instance(), out("PlayMode", "CurrentPlayMode"), out("RecQualityMode", "CurrentRecordQualityMode")}},
        {"GetCurrentTransportActions", {instance(), out("Actions", "CurrentTransportActions")}},
        {"Play", {instance(), in("Speed", "TransportPlaySpeed")}},
        {"Pause", {instance()}},
        {"Stop", {instance()}},
        {"Seek", {instance(), in("Unit", "A_ARG_TYPE_SeekMode"), in("Target", "A_ARG_TYPE_SeekTarget")}},
        {"Next", {instance()}},
        {"Previous", {instance()}},
    };
    return s;
}

ServiceSpec rendering_control() {
    ServiceSpec s = service("RenderingControl");
    s.variables = {
        plain("PresetNameList"),
        evented("LastChange"),
        plain("Mute", "boolean"),
        {"Volume", "ui2", false, {}, 0, 100},
        {"A_ARG_TYPE_Channel", "string", false, {"Master"}, 0, 0},
        plain("A_ARG_TYPE_InstanceID", "ui4"),
        {"A_ARG_TYPE_PresetName", "string", false, {"FactoryDefaults"}, 0, 0},
    };
    const ArgumentSpec channel = in("Channel", "A_ARG_TYPE_Channel");
    s.actions = {
        {"ListPresets", {instance(), out("CurrentPresetNameList", "PresetNameList")}},
        {"SelectPreset", {instance(), in("PresetName", "A_ARG_TYPE_PresetName")}},
        {"GetMute", {instance(), channel, out("CurrentMute", "Mute")}},
        {"SetMute", {instance(), channel, in("DesiredMute", "Mute")}},
        {"GetVolume", {instance(), channel, out("CurrentVolume", "Volume")}},
        {"SetVolume", {instance(), channel, in("DesiredVolume", "Volume")}},
    };
    return s;
}

ServiceSpec connection_manager() {
    ServiceSpec s = service("ConnectionManager");
    s.variables = {
        evented("SourceProtocolInfo"),
        evented("SinkProtocolInfo"),
        evented("CurrentConnectionIDs"),
        {"A_ARG_TYPE_ConnectionStatus",
         "string",
         false,
         {"OK", "ContentFormatMismatch", "InsufficientBandwidth", "UnreliableChannel", "Unknown"},
         0,
         0},
        plain("A_ARG_TYPE_ConnectionManager"),
        {"A_ARG_TYPE_Direction", "string", false, {"Input", "Output"}, 0, 0},
        plain("A_ARG_TYPE_ProtocolInfo"),
        plain("A_ARG_TYPE_ConnectionID", "i4"),
        plain("A_ARG_TYPE_AVTransportID", "i4"),
        plain("A_ARG_TYPE_RcsID", "i4"),
    };
    s.actions = {
        {"GetProtocolInfo", {out("Source", "SourceProtocolInfo"), out("Sink", "SinkProtocolInfo")}},
        {"GetCurrentConnectionIDs", {out("ConnectionIDs", "CurrentConnectionIDs")}},
        {"GetCurrentConnectionInfo",
         {in("ConnectionID", "A_ARG_TYPE_ConnectionID"), out("RcsID", "A_ARG_TYPE_RcsID"),
          out("AVTransportID", "A_ARG_TYPE_AVTransportID"), out("ProtocolInfo", "A_ARG_TYPE_ProtocolInfo"),
          out("PeerConnectionManager", "A_ARG_TYPE_ConnectionManager"),
          out("PeerConnectionID", "A_ARG_TYPE_ConnectionID"), out("Direction", "A_ARG_TYPE_Direction"),
          out("Status", "A_ARG_TYPE_ConnectionStatus")}},
    };
    return s;
}

ServiceSpec content_directory() {
    ServiceSpec s = service("ContentDirectory");
    s.variables = {
        plain("SearchCapabilities"),
        plain("SortCapabilities"),
        evented("SystemUpdateID", "ui4"),
        evented("ContainerUpdateIDs"),
        plain("A_ARG_TYPE_ObjectID"),
        plain("A_ARG_TYPE_Result"),
        plain("A_ARG_TYPE_SearchCriteria"),
        {"A_ARG_TYPE_BrowseFlag", "string", false, {"BrowseMetadata", "BrowseDirectChildren"}, 0, 0},
        plain("A_ARG_TYPE_Filter"),
        plain("A_ARG_TYPE_SortCriteria"),
        plain("A_ARG_TYPE_Index", "ui4"),
        plain("A_ARG_TYPE_Count", "ui4"),
        plain("A_ARG_TYPE_UpdateID", "ui4"),
    };
    const std::vector<ArgumentSpec> page = {
        in("Filter", "A_ARG_TYPE_Filter"),        in("StartingIndex", "A_ARG_TYPE_Index"),
        in("RequestedCount", "A_ARG_TYPE_Count"), in("SortCriteria", "A_ARG_TYPE_SortCriteria"),
        out("Result", "A_ARG_TYPE_Result"),       out("NumberReturned", "A_ARG_TYPE_Count"),
        out("TotalMatches", "A_ARG_TYPE_Count"),  out("UpdateID", "A_ARG_TYPE_UpdateID")};
    ActionSpec browse{"Browse", {in("ObjectID", "A_ARG_TYPE_ObjectID"), in("BrowseFlag", "A_ARG_TYPE_BrowseFlag")}};
    ActionSpec search{"Search",
                      {in("ContainerID", "A_ARG_TYPE_ObjectID"), in("SearchCriteria", "A_ARG_TYPE_SearchCriteria")}};
    browse.arguments.insert(browse.arguments.end(), page.begin(), page.end());
    search.arguments.insert(search.arguments.end(), page.begin(), page.end());
    s.actions = {{"GetSearchCapabilities", {out("SearchCaps", "SearchCapabilities")}},
                 {"GetSortCapabilities", {out("SortCaps", "SortCapabilities")}},
                 {"GetSystemUpdateID", {out("Id", "SystemUpdateID")}},
                 browse,
                 search};
    return s;
}

std::string write_service_description(const ServiceSpec& service) {
    std::string text =
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<scpd xmlns=\"urn:schemas-upnp-org:service-1-0\">"
        "<specVersion><major>1</major><minor>1</minor></specVersion><actionList>";
    for (const ActionSpec& action : service.actions) {
        text += "<action>" + element("name", action.name) + "<argumentList>";
        for (const ArgumentSpec& one : action.arguments)
            text += "<argument>" + element("name", one.name) + element("direction", one.in ? "in" : "out") +
                    element("relatedStateVariable", one.variable) + "</argument>";
        text += "</argumentList></action>";
    }
    text += "</actionList><serviceStateTable>";
    for (const StateVariable& one : service.variables) {
        text += fmt::format("<stateVariable sendEvents=\"{}\">", one.evented ? "yes" : "no") +
                element("name", one.name) + element("dataType", one.type);
        if (!one.allowed.empty()) {
            text += "<allowedValueList>";
            for (const std::string& value : one.allowed) text += element("allowedValue", value);
            text += "</allowedValueList>";
        }
        if (one.most > one.least)
            text += fmt::format(
                "<allowedValueRange><minimum>{}</minimum><maximum>{}</maximum><step>1</step>"
                "</allowedValueRange>",
                one.least, one.most);
        text += "</stateVariable>";
    }
    return text + "</serviceStateTable></scpd>\n";
}

}  // namespace wavecrest::upnp
