// H.264 that encoders at hand don't write: random but legal syntax, on which our decoder and a browser's have to agree.
#include <algorithm>
#include <catch2/catch.hpp>
#include <cstdlib>
#include <functional>

#include "base/bits.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/nal.hpp"
#include "codec/h264/decoder.hpp"
#include "codec/video_decoder.hpp"
#include "codec/video_encoder.hpp"
#include "support/browser.hpp"
#include "support/h264_judge.hpp"
#include "support/h264_writer.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

std::vector<Picture> decode(const H264Written& written, codec::H264DecoderSettings settings) {
    Track track;
    track.kind = TrackKind::video;
    track.codec = Codec::h264;
    track.codec_config = written.config;
    auto decoder = codec::make_h264_decoder(track, settings);
    std::vector<Picture> out;
    for (const Packet& packet : written.packets) {
        const auto status = decoder->decode(packet, out);
        INFO((status ? std::string() : status.error().what));
        REQUIRE(status);
    }
    REQUIRE(decoder->flush(out));
    return out;
}

struct Case {
    std::string name;
    H264WriterSettings settings;
};

// Where the first of them differs: the stream is judged once more, by macroblocks.
std::string place_of_difference(const JudgedStream& stream, const std::vector<Picture>& ours) {
    std::string why;
    auto judged = judge_h264({stream}, why, true);
    if (!judged || judged->empty()) return why;
    std::vector<JudgedPicture>& right = judged->front();
    std::sort(right.begin(), right.end(), [](const auto& a, const auto& b) { return a.time < b.time; });
    for (std::size_t k = 0; k < std::min(ours.size(), right.size()); ++k) {
        const std::string place = first_difference(ours[k], right[k].parts);
        if (!place.empty()) return "picture " + std::to_string(k) + ", " + place;
    }
    return "no sample differs";
}

// By which stage a stream comes out another one than the browser shows: with less in it, it is the same one again.
std::string stage_of_difference(const H264WriterSettings& settings, codec::H264DecoderSettings decoder) {
    H264WriterSettings less = settings;
    less.unfiltered = true;
    const H264Written unfiltered = write_h264(less);
    less.flat = true;
    const H264Written flat = write_h264(less);
    std::string why;
    const auto judged = judge_h264({{unfiltered.config, unfiltered.packets}, {flat.config, flat.packets}}, why);
    if (!judged || judged->size() != 2) return why;
    const auto same = [&](const H264Written& written, std::vector<JudgedPicture> right) {
        std::sort(right.begin(), right.end(), [](const auto& a, const auto& b) { return a.time < b.time; });
        const std::vector<Picture> ours = decode(written, decoder);
        return std::equal(ours.begin(), ours.end(), right.begin(), right.end(),
                          [](const Picture& a, const JudgedPicture& b) { return hash_of(a) == b.hash; });
    };
    return same(unfiltered, (*judged)[0]) ? "deblocking" : same(flat, (*judged)[1]) ? "residual" : "prediction";
}

// Where the first of our pictures is another than the writer's own reconstruction; empty: nowhere.
std::string difference_from_written(const H264Written& written, const std::vector<Picture>& ours) {
    if (written.pictures.size() != ours.size()) return std::to_string(ours.size()) + " pictures";
    for (std::size_t k = 0; k < ours.size(); ++k) {
        const Picture& right = written.pictures[k];
        if (ours[k].pts != right.pts) return "picture " + std::to_string(k) + " has another time";
        for (int plane = 0; plane < 3; ++plane) {
            const int scale = plane == 0 ? 1 : 2;
            for (int y = 0; y < right.height / scale; ++y) {
                for (int x = 0; x < right.width / scale; ++x) {
                    if (ours[k].planes[plane][y * ours[k].strides[plane] + x] ==
                        right.planes[plane][y * right.strides[plane] + x])
                        continue;
                    const int column = (x * scale + written.crop_left) / 16, row = (y * scale + written.crop_top) / 16;
                    return "picture " + std::to_string(k) + ", plane " + std::to_string(plane) + " of macroblock " +
                           std::to_string(column) + "," + std::to_string(row) + " (" +
                           written.kinds[k][static_cast<std::size_t>(row * written.columns + column)] + ")";
                }
            }
        }
    }
    return "";
}

// The same, with the stage that goes wrong: what is right without it.
std::string compare_with_written(const H264WriterSettings& settings, codec::H264DecoderSettings decoder) {
    const auto compare = [&](const H264WriterSettings& s) {
        const H264Written written = write_h264(s);
        return difference_from_written(written, decode(written, decoder));
    };
    const std::string place = compare(settings);
    if (place.empty()) return "";
    H264WriterSettings less = settings;
    less.unfiltered = true;
    if (compare(less).empty()) return place + ": deblocking";
    less.flat = true;
    return place + (compare(less).empty() ? ": residual" : ": prediction");
}

void compare(const std::vector<Case>& cases) {
    for (std::size_t i = 0; i < cases.size(); ++i) {
        INFO(cases[i].name << ", seed " << cases[i].settings.seed);
        CHECK(compare_with_written(cases[i].settings, {i % 2 == 0 ? 3 : 1, &codec::h264::best_kernels()}) == "");
    }
}

void judge(const std::vector<Case>& cases) {
    compare(cases);
    if (!has_browser()) return;
    std::vector<JudgedStream> streams;
    std::vector<H264Written> written;
    for (const Case& one : cases) {
        written.push_back(write_h264(one.settings));
        streams.push_back({written.back().config, written.back().packets});
    }
    std::string why;
    const auto judged = judge_h264(streams, why);
    INFO(why);
    REQUIRE(judged);
    REQUIRE(judged->size() == cases.size());
    for (std::size_t i = 0; i < cases.size(); ++i) {
        // On one thread, or on as many as make several pictures at once.
        const std::vector<Picture> ours = decode(written[i], {i % 2 == 0 ? 1 : 3, &codec::h264::best_kernels()});
        std::vector<JudgedPicture> right = (*judged)[i];
        std::sort(right.begin(), right.end(), [](const auto& a, const auto& b) { return a.time < b.time; });
        INFO(cases[i].name << ", seed " << cases[i].settings.seed);
        CHECK(ours.size() == written[i].packets.size());
        CHECK(right.size() == ours.size());
        std::string differing;
        for (std::size_t k = 0; k < std::min(ours.size(), right.size()); ++k) {
            const bool same =
                hash_of(ours[k]) == right[k].hash && base::to_ticks(ours[k].pts, 1'000'000) == right[k].time;
            if (!same) differing += " " + std::to_string(k);
        }
        if (!differing.empty())
            differing += "; " + place_of_difference(streams[i], ours) + ": " +
                         stage_of_difference(cases[i].settings, {i % 2 == 0 ? 1 : 3, &codec::h264::best_kernels()});
        INFO("pictures that differ:" << differing);
        CHECK(differing.empty());
    }
}

// Each kind in four streams, of both ways of coding where it has both.
class Kinds {
  public:
    using Set = std::function<void(H264WriterSettings&)>;
    Kinds& add(const std::string& name, const Set& set) {
        for (std::uint32_t i = 0; i < 4; ++i) {
            Case one{name, {}};
            one.settings.seed = 100 + i;
            one.settings.cabac = i % 2 == 1;
            set(one.settings);
            cases_.push_back(one);
        }
        return *this;
    }
    const std::vector<Case>& cases() const { return cases_; }

  private:
    std::vector<Case> cases_;
};

using S = H264WriterSettings;

void fields_and_frames(S& s) {
    s.frames_only = false;
    s.fields = 50;
}
void pairs(S& s) {
    s.frames_only = false;
    s.adaptive = true;
    s.cabac = false;
}

}  // namespace

TEST_CASE("random syntax: frames", "[h264][syntax][browser]") {
    Kinds kinds;
    kinds.add("P", [](S&) {})
        .add("B spatial", [](S& s) { s.b_slices = true; })
        .add("B spatial, small blocks",
             [](S& s) {
                 s.b_slices = true;
                 s.inference = false;
             })
        .add("B temporal",
             [](S& s) {
                 s.b_slices = s.temporal = true;
                 s.references = 8;
             })
        .add("B temporal, small blocks",
             [](S& s) {
                 s.b_slices = s.temporal = true;
                 s.inference = false;
                 s.references = 8;
             })
        .add("lists of weights",
             [](S& s) {
                 s.scaling = true;
                 s.b_slices = true;
             })
        .add("gaps in frame_num",
             [](S& s) {
                 s.gaps = true;
                 s.pictures = 24;
             })
        .add("cropped", [](S& s) {
            s.crop = {0, 3, 0, 2};
        });
    judge(kinds.cases());
}

TEST_CASE("random syntax: fields", "[h264][syntax][browser]") {
    Kinds kinds;
    kinds
        .add("P",
             [](S& s) {
                 s.frames_only = false;
                 s.fields = 100;
             })
        .add("B spatial",
             [](S& s) {
                 s.frames_only = false;
                 s.fields = 100;
                 s.b_slices = true;
             })
        .add("B temporal",
             [](S& s) {
                 s.frames_only = false;
                 s.fields = 100;
                 s.b_slices = s.temporal = true;
                 s.references = 8;
             })
        .add("with frames, B spatial",
             [](S& s) {
                 fields_and_frames(s);
                 s.b_slices = true;
             })
        .add("with frames, B temporal",
             [](S& s) {
                 fields_and_frames(s);
                 s.b_slices = s.temporal = true;
                 s.references = 8;
             })
        .add("slices of mixed types",
             [](S& s) {
                 fields_and_frames(s);
                 s.b_slices = s.slices = true;
             })
        .add("explicit weights",
             [](S& s) {
                 fields_and_frames(s);
                 s.b_slices = s.weighted_p = true;
                 s.weighted_b = 1;
             })
        .add("weights by distance",
             [](S& s) {
                 fields_and_frames(s);
                 s.b_slices = true;
                 s.weighted_b = 2;
             })
        .add("many references",
             [](S& s) {
                 fields_and_frames(s);
                 s.b_slices = true;
                 s.references = 15;
                 s.pictures = 24;
             })
        .add("cropped", [](S& s) {
            fields_and_frames(s);
            s.crop = {0, 1, 0, 1};
        });
    judge(kinds.cases());
}

TEST_CASE("random syntax: memory, orders and tools", "[h264][syntax][browser]") {
    Kinds kinds;
    kinds
        .add("lists by command",
             [](S& s) {
                 fields_and_frames(s);
                 s.reordered = true;
                 s.b_slices = s.seed % 2 == 0;
             })
        .add("long-term references",
             [](S& s) {
                 fields_and_frames(s);
                 s.long_term = s.reordered = true;
                 s.b_slices = s.seed % 2 == 0;
                 s.pictures = 24;
             })
        .add("picture order count type 1",
             [](S& s) {
                 fields_and_frames(s);
                 s.b_slices = true;
                 s.order_type = 1;
                 s.pictures = 24;
             })
        .add("picture order count type 2",
             [](S& s) {
                 fields_and_frames(s);
                 s.order_type = 2;
                 s.pictures = 24;
             })
        .add("constrained intra prediction",
             [](S& s) {
                 fields_and_frames(s);
                 s.b_slices = s.slices = s.constrained_intra = true;
                 s.intra = 40;
             })
        .add("8x8 transform and lists of weights", [](S& s) {
            fields_and_frames(s);
            s.b_slices = s.transform8 = s.scaling = true;
        });
    judge(kinds.cases());
}

TEST_CASE("random syntax: what only the standard settles", "[h264][syntax]") {
    // A browser's decoder is wrong about these: references of fields from the seventeenth on, a second field behind
    // whose first it comes in list 1, fields shown in another order than they are coded, edges cut off left and above.
    Kinds kinds;
    kinds
        .add("very many references",
             [](S& s) {
                 fields_and_frames(s);
                 s.free = s.b_slices = true;
                 s.references = 16;
                 s.pictures = 40;
             })
        .add("fields in any order, spatial",
             [](S& s) {
                 fields_and_frames(s);
                 s.fields = 80;
                 s.free = s.b_slices = true;
                 s.weighted_b = s.seed % 2 == 0 ? 2 : 0;
                 s.pictures = 24;
             })
        .add("fields in any order, temporal",
             [](S& s) {
                 fields_and_frames(s);
                 s.fields = 80;
                 s.free = s.b_slices = s.temporal = true;
                 s.references = 8;
                 s.pictures = 24;
             })
        .add("all at once",
             [](S& s) {
                 fields_and_frames(s);
                 s.free = s.b_slices = s.slices = s.weighted_p = s.transform8 = s.scaling = s.reordered = s.long_term =
                     true;
                 s.weighted_b = 1;
                 s.references = 12;
                 s.pictures = 40;
             })
        .add("cropped on all sides", [](S& s) {
            fields_and_frames(s);
            s.free = true;
            s.crop = {3, 2, 1, 2};
        });
    compare(kinds.cases());
}

TEST_CASE("random syntax: pairs of macroblocks", "[h264][syntax][browser]") {
    Kinds kinds;
    for (const bool with_fields : {false, true}) {
        const auto set = [with_fields](S& s) {
            pairs(s);
            s.fields = with_fields ? 50 : 0;
            s.b_slices = true;
        };
        const std::string with = with_fields ? ", with fields" : "";
        kinds
            .add("P" + with,
                 [set](S& s) {
                     set(s);
                     s.b_slices = false;
                 })
            .add("B spatial" + with, set)
            .add("B temporal" + with,
                 [set](S& s) {
                     set(s);
                     s.temporal = true;
                     s.references = 8;
                 })
            .add("weights by distance" + with,
                 [set](S& s) {
                     set(s);
                     s.weighted_b = 2;
                 })
            .add("explicit weights" + with, [set](S& s) {
                set(s);
                s.weighted_p = true;
                s.weighted_b = 1;
            });
    }
    judge(kinds.cases());
}

TEST_CASE("threads and kernels change nothing, and a window is a part of the whole", "[h264][syntax]") {
    for (std::uint32_t seed = 1; seed <= 6; ++seed) {
        S settings;
        settings.seed = seed;
        settings.cabac = seed % 2 == 0;
        settings.columns = 11;
        settings.rows = 10;
        fields_and_frames(settings);
        settings.b_slices = settings.transform8 = settings.slices = true;
        settings.weighted_b = static_cast<int>(seed % 3);
        settings.weighted_p = seed % 3 == 1;
        const H264Written written = write_h264(settings);
        const auto plain = decode(written, {1, &codec::h264::plain_kernels()});
        const auto alone = decode(written, {1, &codec::h264::best_kernels()});
        const auto together = decode(written, {3, &codec::h264::best_kernels()});
        settings.crop = {2, 1, 1, 2};
        const auto window = decode(write_h264(settings), {2, &codec::h264::best_kernels()});
        REQUIRE(plain.size() == written.packets.size());
        REQUIRE(alone.size() == plain.size());
        REQUIRE(together.size() == plain.size());
        REQUIRE(window.size() == plain.size());
        for (std::size_t i = 0; i < plain.size(); ++i) {
            CHECK(hash_of(alone[i]) == hash_of(plain[i]));
            CHECK(hash_of(together[i]) == hash_of(plain[i]));
            // Units are two columns, and four rows where there are fields.
            REQUIRE(window[i].width == plain[i].width - 2 * 3);
            REQUIRE(window[i].height == plain[i].height - 4 * 3);
            int differing = 0;
            for (int y = 0; y < window[i].height; ++y) {
                for (int x = 0; x < window[i].width; ++x) {
                    if (window[i].planes[0][y * window[i].strides[0] + x] !=
                        plain[i].planes[0][(y + 4) * plain[i].strides[0] + x + 4])
                        ++differing;
                }
            }
            CHECK(differing == 0);
        }
    }
}

namespace {

// The packet, with other units before or behind each of its own; a length of four bytes is in front of each.
Packet with_units(const Packet& packet, const std::vector<ByteVector>& before,
                  const std::function<ByteVector(ByteSpan)>& behind = {}) {
    ByteVector data;
    const auto add = [&](ByteSpan unit) {
        for (const int shift : {24, 16, 8, 0}) data.push_back(static_cast<std::uint8_t>(unit.size() >> shift));
        data.insert(data.end(), unit.begin(), unit.end());
    };
    for (const ByteVector& unit : before) add(unit);
    for (const ByteSpan unit : bitstream::nal::split_lengths(packet.data.view())) {
        add(unit);
        if (behind) add(behind(unit));
    }
    Packet out = packet;
    out.data = Bytes(std::move(data));
    return out;
}

}  // namespace

TEST_CASE("of a stream with a second view the base view is decoded", "[h264][syntax]") {
    S settings;
    settings.seed = 5;
    settings.cabac = settings.b_slices = settings.slices = true;
    const H264Written written = write_h264(settings);
    const auto alone = decode(written, {1, &codec::h264::best_kernels()});
    REQUIRE(alone.size() == written.packets.size());
    H264Written views = written;
    for (Packet& packet : views.packets) {
        // Annex H: a subset sequence parameter set (15), prefixes (14), and the other view's slices (20), each with
        // three bytes of nal_unit_header_mvc_extension.
        const ByteVector subset = {0x6F, 0x76, 0x00, 0x28, 0xFF}, prefix = {0x6E, 0x40, 0x00, 0x07};
        packet = with_units(packet, {subset, prefix}, [](ByteSpan unit) {
            ByteVector other = {0x74, 0x40, 0x00, 0x0B};
            other.insert(other.end(), unit.begin() + 1, unit.end());
            return other;
        });
    }
    const auto base = decode(views, {2, &codec::h264::best_kernels()});
    REQUIRE(base.size() == alone.size());
    for (std::size_t i = 0; i < base.size(); ++i) {
        CHECK(base[i].pts == alone[i].pts);
        CHECK(hash_of(base[i]) == hash_of(alone[i]));
    }
}

TEST_CASE("what can't be decoded is refused by name", "[h264][syntax]") {
    S settings;
    settings.seed = 6;
    const H264Written written = write_h264(settings);
    const auto track_of = [](const Bytes& config) {
        Track track;
        track.kind = TrackKind::video;
        track.codec = Codec::h264;
        track.codec_config = config;
        return track;
    };
    const auto refusal = [&](const std::vector<Packet>& packets) {
        auto decoder = codec::make_h264_decoder(track_of(written.config), {1, &codec::h264::best_kernels()});
        std::vector<Picture> out;
        for (const Packet& packet : packets) {
            const auto status = decoder->decode(packet, out);
            if (status) continue;
            CHECK(status.error().kind == ErrorKind::input);
            CHECK(out.empty());
            return status.error().what;
        }
        return std::string("nothing was refused");
    };
    const auto with = [&](const ByteVector& unit) { return refusal({with_units(written.packets.front(), {unit})}); };
    const ByteVector slice_groups = {0x68, 0xC5};  // both identifiers 0, variable length codes, two slice groups
    CHECK_THAT(with({0x62, 0x88, 0x80}), Catch::Contains("uses data partitioning"));
    CHECK_THAT(with(slice_groups), Catch::Contains("has slice groups"));
    CHECK_THAT(with({0x6F, 83, 0x00, 0x28, 0xFF}), Catch::Contains("is scalable (SVC)"));
    CHECK_THAT(with({0x74, 0x80, 0x00, 0x07, 0x88}), Catch::Contains("is scalable (SVC)"));
    const auto sets = bitstream::h264::parameter_sets(written.config.view());
    REQUIRE(sets);
    const auto sps = bitstream::h264::parse_sps(sets->units[0]);
    REQUIRE(sps);
    REQUIRE(sps->order_type == 0);
    const auto pps = bitstream::h264::parse_pps(sets->units[1], *sps);
    REQUIRE(pps);
    for (const bool predicted : {false, true}) {
        // A slice of a picture that nothing refers to: SI, or SP with the lists as they are.
        base::BitWriter header;
        header.bits(predicted ? 0b1'0001001'1 : 0b1'0001010'1,
                    9);  // from the first macroblock on; 8 or 9; the first PPS
        header.bits(0, sps->frame_number_bits);
        header.bits(0, sps->order_bits);
        if (pps->bottom_field_order) header.bits(1, 1);
        if (predicted) header.bits(0, 2);
        header.bits(0xFFFFFFFF, 32);
        ByteVector unit = {0x01};
        bitstream::nal::append_escaped(unit, header.release());
        CHECK_THAT(with(unit), Catch::Contains("has switching slices"));
    }

    // By the parameter sets: before anything is decoded.
    REQUIRE(sets->units.size() >= 2);
    CHECK(codec::why_no_h264(track_of(written.config)).empty());
    CHECK_THAT(codec::why_no_h264(track_of(Bytes(bitstream::h264::make_config(sets->units[0], slice_groups)))),
               Catch::Contains("with slice groups can be remuxed but not decoded"));
    Track scalable = track_of(written.config);
    scalable.layers = media::Layers::scalable;
    CHECK_THAT(codec::why_no_h264(scalable), Catch::StartsWith("scalable H.264"));
}

TEST_CASE("frame packing goes through the encoder and the decoder, frame-sequential", "[h264][frame-packing]") {
    using Arrangement = FramePacking::Arrangement;
    using View = FramePacking::View;
    const FramePacking beside{Arrangement::side_by_side, View::right}, above{Arrangement::top_bottom, View::left};
    std::vector<std::optional<FramePacking>> told;
    for (int i = 0; i < 60; ++i) {
        FramePacking turns{Arrangement::alternating, View::left};
        turns.is_first = i % 2 == 0;
        told.push_back(i < 11   ? std::optional(beside)
                       : i < 19 ? std::nullopt
                       : i < 33 ? std::optional(above)
                       : i < 45 ? std::optional(turns)
                       : i < 50 ? std::nullopt
                                : std::optional(beside));
    }
    codec::VideoEncoderSettings settings;
    settings.width = settings.height = 64;
    settings.keyframe_distance = std::chrono::seconds(1);
    auto encoder = codec::make_video_encoder(settings);
    REQUIRE(encoder);
    std::vector<Packet> packets;
    for (int i = 0; i < 60; ++i) {
        Picture picture = Picture::allocate(64, 64);
        for (int plane = 0; plane < 3; ++plane) {
            for (int y = 0; y < (plane == 0 ? 64 : 32); ++y) {
                for (int x = 0; x < (plane == 0 ? 64 : 32); ++x)
                    picture.planes[plane][y * picture.strides[plane] + x] =
                        static_cast<std::uint8_t>(100 + (x * 3 + y * 5 + i * 2) % 64);
            }
        }
        picture.pts = base::frames_to_time(i, {25, 1});
        picture.duration = base::frames_to_time(1, {25, 1});
        picture.frame_packing = told[static_cast<std::size_t>(i)];
        REQUIRE((*encoder)->encode(picture, packets));
    }
    REQUIRE((*encoder)->flush(packets));
    // Pictures come in another order than they are shown in.
    CHECK(std::any_of(packets.begin(), packets.end(), [](const Packet& p) { return p.pts != p.dts; }));
    Track track = (*encoder)->track();
    track.frame_rate = {25, 1};
    std::vector<Picture> out;
    auto decoder = codec::make_h264_decoder(track, {1, &codec::h264::best_kernels()});
    for (const Packet& packet : packets) REQUIRE(decoder->decode(packet, out));
    REQUIRE(decoder->flush(out));
    REQUIRE(out.size() == 60);
    for (std::size_t i = 0; i < out.size(); ++i) {
        INFO(i);
        CHECK(out[i].frame_packing == told[i]);
    }
    // The first picture's is the track's; decoding from further on than the message knows it from there.
    bitstream::describe_headers(track, packets.front().data.view());
    CHECK(track.frame_packing == beside);
    auto later = codec::make_h264_decoder(track, {1, &codec::h264::best_kernels()});
    out.clear();
    Packet bare = packets.front();
    ByteVector data;
    for (const ByteSpan unit : bitstream::nal::split_lengths(packets.front().data.view())) {
        if ((unit[0] & 0x1F) != 6) bitstream::nal::append(data, unit);
    }
    bare.data = Bytes(std::move(data));
    REQUIRE(later->decode(bare, out));
    REQUIRE(later->flush(out));
    REQUIRE(out.size() == 1);
    CHECK(out[0].frame_packing == beside);
}

// For scripts/fuzz: small streams of every kind, as its target takes them.
TEST_CASE("seeds for fuzzing", "[.seeds]") {
    const char* const folder = std::getenv("WAVECREST_SEEDS");
    REQUIRE(folder != nullptr);
    for (std::uint32_t seed = 1; seed <= 12; ++seed) {
        S settings;
        settings.seed = seed;
        settings.pictures = 5;
        settings.columns = 3;
        settings.rows = 4;
        settings.b_slices = true;
        settings.cabac = seed % 2 == 0;
        settings.transform8 = settings.scaling = seed % 3 == 0;
        settings.temporal = seed % 4 == 0;
        settings.weighted_b = static_cast<int>(seed % 3);
        settings.slices = seed % 5 == 0;
        settings.long_term = settings.reordered = seed % 4 == 1;
        if (seed > 4) fields_and_frames(settings);
        if (seed > 8) pairs(settings);
        const H264Written written = write_h264(settings);
        ByteVector bytes;
        const auto unit = [&](ByteSpan data) {
            bytes.push_back(static_cast<std::uint8_t>(data.size() >> 8));
            bytes.push_back(static_cast<std::uint8_t>(data.size()));
            bytes.insert(bytes.end(), data.begin(), data.end());
        };
        const auto sets = bitstream::h264::parameter_sets(written.config.view());
        REQUIRE(sets);
        for (const ByteSpan set : sets->units) unit(set);
        for (const Packet& packet : written.packets) {
            for (const ByteSpan one : bitstream::nal::split_lengths(packet.data.view())) unit(one);
            unit({});
        }
        write_all(base::Path(folder) / ("stream-" + std::to_string(seed)), bytes);
    }
}

TEST_CASE("the browser's opinion says which macroblock is another one", "[h264][syntax][browser]") {
    S settings;
    settings.seed = 5;
    settings.columns = 6;
    settings.rows = 5;
    const H264Written written = write_h264(settings);
    std::vector<Picture> ours = decode(written, {1, &codec::h264::best_kernels()});
    std::string why;
    const auto judged = judge_h264({{written.config, written.packets}}, why, true);
    INFO(why);
    REQUIRE(judged);
    std::vector<JudgedPicture> right = judged->front();
    std::sort(right.begin(), right.end(), [](const auto& a, const auto& b) { return a.time < b.time; });
    REQUIRE(right.size() == ours.size());
    REQUIRE(ours.size() > 2);
    CHECK(first_difference(ours[2], right[2].parts).empty());
    Picture& picture = ours[2];
    picture.planes[0][(3 * 16 + 7) * picture.strides[0] + 4 * 16 + 15] ^= 1;
    CHECK(first_difference(picture, right[2].parts) == "plane 0 of macroblock 4,3");
    picture.planes[2][(1 * 8 + 7) * picture.strides[2] + 5 * 8] ^= 1;
    CHECK(first_difference(picture, right[2].parts) == "plane 2 of macroblock 5,1");
}

TEST_CASE("the browser's opinion says by which stage", "[h264][syntax][browser]") {
    if (!has_browser()) return;
    S settings;
    settings.seed = 5;
    settings.intra = 0;
    using codec::h264::Kernels;
    static const Kernels& right = codec::h264::plain_kernels();
    const auto said = [&](const std::function<void(Kernels&)>& spoil) {
        Kernels kernels = right;
        spoil(kernels);
        return stage_of_difference(settings, {1, &kernels});
    };
    CHECK(said([](Kernels& k) {
              k.luma_horizontal = [](std::uint8_t* at, std::ptrdiff_t stride, int alpha, int beta,
                                     const std::int8_t* clip) {
                  right.luma_horizontal(at, stride, alpha, beta, clip);
                  at[3] ^= 1;
              };
          }) == "deblocking");
    CHECK(said([](Kernels& k) {
              k.add_4x4 = [](const std::int16_t* coefficients, std::uint8_t* at, std::ptrdiff_t stride) {
                  right.add_4x4(coefficients, at, stride);
                  at[0] ^= 2;
              };
          }) == "residual");
    CHECK(said([](Kernels& k) {
              k.luma[0] = [](const std::uint8_t* from, std::ptrdiff_t stride, int dx, int dy, std::uint8_t* to,
                             std::ptrdiff_t to_stride, int height) {
                  right.luma[0](from, stride, dx, dy, to, to_stride, height);
                  to[0] ^= 2;
              };
          }) == "prediction");
}
