#include "support/clips.hpp"

#include <FLAC/stream_encoder.h>
#include <lame/lame.h>
#include <opus/opus_multistream.h>
#include <twolame.h>
#include <vorbis/vorbisenc.h>
#include <vpx/vp8cx.h>
#include <vpx/vpx_encoder.h>
#include <x265.h>
#include <xvid.h>

#include <algorithm>
#include <bit>
#include <catch2/catch.hpp>
#include <cmath>
#include <cstring>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"
#include "bitstream/audio_frames.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/nal.hpp"
#include "bitstream/web_video.hpp"
#include "bitstream/xiph.hpp"
#include "codec/aac_encoder.hpp"
#include "codec/ac3_encoder.hpp"
#include "codec/mpeg2_encoder.hpp"
#include "codec/video_encoder.hpp"
#include "sample/test_card.hpp"
#include "support/support.hpp"

namespace wavecrest::test {
namespace {

constexpr int kWidth = 320, kHeight = 180, kGroup = 24, kRate = 48000;
const Ratio kFilm{24000, 1001};

Packet packet(TrackId track, Time pts, Time dts, Time duration, bool key, ByteVector data) {
    Packet p;
    p.track = track;
    p.pts = pts;
    p.dts = dts;
    p.duration = duration;
    p.key = key;
    p.data = Bytes(std::move(data));
    return p;
}

float tone(std::int64_t n, int channel) {
    return 0.4f * static_cast<float>(std::sin(2 * M_PI * (440.0 + 110 * channel) * static_cast<double>(n) / kRate)) +
           0.1f * static_cast<float>(std::sin(static_cast<double>(n * n % 9973)));
}

sample::TestCard card(int height) {
    sample::CardSettings settings;
    settings.width = kWidth;
    settings.height = height;
    return sample::TestCard(settings);
}

TestTrack encode_h264(int count) {
    codec::VideoEncoderSettings settings;
    settings.width = kWidth;
    settings.height = kHeight;
    settings.frame_rate = kFilm;
    settings.colour = {6, 6, 6, false};
    settings.keyframe_distance = base::frames_to_time(kGroup, kFilm);
    settings.threads = 1;
    auto encoder = codec::make_video_encoder(settings);
    REQUIRE(encoder);
    TestTrack test_track;
    test_track.track = (*encoder)->track();
    const auto source = card(kHeight);
    for (int i = 0; i < count; ++i) {
        Picture picture = source.draw(i);
        picture.pts = base::frames_to_time(i, kFilm);
        picture.duration = base::frames_to_time(1, kFilm);
        REQUIRE((*encoder)->encode(picture, test_track.packets));
    }
    REQUIRE((*encoder)->flush(test_track.packets));
    return test_track;
}

// Packets of one track in a file, for other processes.
void keep(const base::Path& file, const std::vector<Packet>& packets) {
    ByteVector bytes;
    const auto add = [&](const void* from, std::size_t size) {
        const auto* at = static_cast<const std::uint8_t*>(from);
        bytes.insert(bytes.end(), at, at + size);
    };
    for (const Packet& p : packets) {
        const std::int64_t head[] = {p.pts.count(), p.dts.count(), p.duration.count(), p.key ? 1 : 0,
                                     static_cast<std::int64_t>(p.data.size())};
        add(head, sizeof head);
        add(p.data.view().data(), p.data.size());
    }
    write_all(file, bytes);
}
std::vector<Packet> kept(const base::Path& file) {
    const ByteVector bytes = read_all(file);
    std::vector<Packet> packets;
    for (std::size_t at = 0; at < bytes.size();) {
        std::int64_t head[5];
        std::memcpy(head, bytes.data() + at, sizeof head);
        at += sizeof head;
        const auto from = bytes.begin() + static_cast<std::ptrdiff_t>(at);
        packets.push_back(
            packet(1, Time(head[0]), Time(head[1]), Time(head[2]), head[3] != 0, ByteVector(from, from + head[4])));
        at += static_cast<std::size_t>(head[4]);
    }
    return packets;
}

// Groups are closed, so that whole groups of one long clip, which is encoded once for all tests, serve for any length;
// what is longer than it begins anew.
TestTrack h264(int count) {
    constexpr int kKept = 20 * kGroup;
    if (count % kGroup != 0) return encode_h264(count);
    const base::Path file = samples() / "h264-track";
    const Turn turn(file);
    TestTrack test_track = encode_h264(0);
    if (!std::filesystem::exists(file)) keep(file, encode_h264(kKept).packets);
    const std::vector<Packet> clip = kept(file);
    REQUIRE(clip.size() == kKept);
    for (int i = 0; i < count; ++i) {
        Packet next = clip[static_cast<std::size_t>(i % kKept)];
        REQUIRE((i % kGroup != 0 || next.key));
        const Time shift = base::frames_to_time(i - i % kKept, kFilm);
        next.pts += shift;
        next.dts += shift;
        test_track.packets.push_back(std::move(next));
    }
    return test_track;
}

TestTrack h265(int count, bool open) {
    TestTrack test_track;
    x265_param* param = x265_param_alloc();
    x265_param_default_preset(param, "ultrafast", nullptr);
    param->sourceWidth = kWidth;
    param->sourceHeight = kHeight;
    param->fpsNum = 24000;
    param->fpsDenom = 1001;
    param->keyframeMax = kGroup;
    param->bframes = 2;
    param->bOpenGOP = open ? 1 : 0;
    param->bAnnexB = 1;
    param->bRepeatHeaders = 1;
    param->logLevel = X265_LOG_NONE;
    param->frameNumThreads = 1;
    param->vui.bEnableVideoSignalTypePresentFlag = 1;
    param->vui.bEnableColorDescriptionPresentFlag = 1;
    param->vui.colorPrimaries = param->vui.transferCharacteristics = param->vui.matrixCoeffs = 1;
    x265_encoder* encoder = x265_encoder_open(param);
    REQUIRE(encoder != nullptr);
    test_track.track.kind = TrackKind::video;
    test_track.track.codec = Codec::h265;
    test_track.track.frame_rate = kFilm;
    const auto source = card(kHeight);
    x265_picture in, out;
    const auto take = [&](x265_picture* picture) {
        x265_nal* units = nullptr;
        std::uint32_t number = 0;
        const int got = x265_encoder_encode(encoder, &units, &number, picture, &out);
        if (got <= 0) return false;
        ByteVector data;
        for (std::uint32_t i = 0; i < number; ++i) {
            for (const ByteSpan unit : bitstream::nal::split_byte_stream({units[i].payload, units[i].sizeBytes}))
                bitstream::nal::append(data, unit);
        }
        if (test_track.packets.empty()) bitstream::describe_headers(test_track.track, data);
        ByteVector bare;
        for (const ByteSpan unit : bitstream::nal::split_lengths(data)) {
            if (!bitstream::nal::is_parameter_set(Codec::h265, bitstream::nal::type(Codec::h265, unit)))
                bitstream::nal::append(bare, unit);
        }
        test_track.packets.push_back(packet(1, base::frames_to_time(out.pts, kFilm),
                                            base::frames_to_time(out.dts, kFilm), base::frames_to_time(1, kFilm),
                                            bitstream::nal::is_random_access(Codec::h265, data), std::move(bare)));
        return true;
    };
    for (int i = 0; i < count; ++i) {
        const Picture drawn = source.draw(i);
        x265_picture_init(param, &in);
        for (int p = 0; p < 3; ++p) {
            in.planes[p] = drawn.planes[p];
            in.stride[p] = drawn.strides[p];
        }
        in.pts = i;
        in.bitDepth = 8;
        take(&in);
    }
    while (take(nullptr)) {
    }
    x265_encoder_close(encoder);
    x265_param_free(param);
    return test_track;
}

TestTrack mpeg2(int count) {
    codec::Mpeg2Settings settings;
    settings.width = kWidth;
    settings.height = 192;
    settings.pictures = codec::Mpeg2Settings::Pictures::film_whole;
    settings.mean_bps = 1'500'000;
    settings.peak_bps = 3'000'000;
    codec::Mpeg2Encoder encoder(settings);
    TestTrack test_track;
    test_track.track.kind = TrackKind::video;
    test_track.track.codec = Codec::mpeg2;
    test_track.track.frame_rate = kFilm;
    const auto source = card(192);
    for (int i = 0; i < count; ++i) {
        auto coded = encoder.encode(source.draw(i), i + 1 == count);
        if (i == 0) bitstream::describe_headers(test_track.track, coded.data);
        const Time at = base::frames_to_time(i, kFilm);
        test_track.packets.push_back(packet(1, at, at - base::frames_to_time(1, kFilm), base::frames_to_time(1, kFilm),
                                            coded.key, std::move(coded.data)));
    }
    return test_track;
}

// MPEG-4 part 2, with two B pictures between others: what the encoder gives out for each frame period, with whether it
// is a keyframe.
std::vector<std::pair<ByteVector, bool>> mpeg4_chunks(int count, bool is_packed) {
    xvid_gbl_init_t global{};
    global.version = XVID_VERSION;
    xvid_global(nullptr, XVID_GBL_INIT, &global, nullptr);
    xvid_enc_create_t create{};
    create.version = XVID_VERSION;
    create.profile = XVID_PROFILE_AS_L4;
    create.width = kWidth;
    create.height = kHeight;
    create.fincr = 1001;
    create.fbase = 24000;
    create.max_key_interval = kGroup;
    create.max_bframes = 2;
    create.bquant_ratio = 150;
    create.global = XVID_GLOBAL_CLOSED_GOP | (is_packed ? XVID_GLOBAL_PACKED : 0);
    REQUIRE(xvid_encore(nullptr, XVID_ENC_CREATE, &create, nullptr) == 0);
    const auto source = card(kHeight);
    ByteVector buffer(1 << 20);
    std::vector<std::pair<ByteVector, bool>> coded;
    for (int i = 0; i < count + 8; ++i) {
        xvid_enc_frame_t frame{};
        frame.version = XVID_VERSION;
        frame.bitstream = buffer.data();
        frame.length = static_cast<int>(buffer.size());
        frame.quant_intra_matrix = frame.quant_inter_matrix = nullptr;
        frame.quant = 4;
        frame.vop_flags = XVID_VOP_HALFPEL;
        frame.type = XVID_TYPE_AUTO;
        Picture drawn;
        if (i < count) {
            drawn = source.draw(i);
            frame.input.csp = XVID_CSP_PLANAR;
            for (int p = 0; p < 3; ++p) {
                frame.input.plane[p] = drawn.planes[p];
                frame.input.stride[p] = drawn.strides[p];
            }
        } else {
            frame.input.csp = XVID_CSP_NULL;
        }
        const int size = xvid_encore(create.handle, XVID_ENC_ENCODE, &frame, nullptr);
        if (size > 0)
            coded.emplace_back(ByteVector(buffer.begin(), buffer.begin() + size),
                               (frame.out_flags & XVID_KEYFRAME) != 0);
    }
    xvid_encore(create.handle, XVID_ENC_DESTROY, nullptr, nullptr);
    return coded;
}

TestTrack mpeg4(int count) {
    TestTrack test_track;
    test_track.track.kind = TrackKind::video;
    test_track.track.codec = Codec::mpeg4;
    test_track.track.frame_rate = kFilm;
    // Coding order tells the times: B pictures are shown when they are decoded, others after those before them.
    auto coded = mpeg4_chunks(count, false);
    const auto type_of = [](const ByteVector& data) {
        for (std::size_t i = 0; i + 4 < data.size(); ++i) {
            if (data[i] == 0 && data[i + 1] == 0 && data[i + 2] == 1 && data[i + 3] == 0xB6) return data[i + 4] >> 6;
        }
        return -1;
    };
    std::vector<int> shown(coded.size(), -1);
    int next = 0, held = -1;
    for (std::size_t i = 0; i < coded.size(); ++i) {
        if (type_of(coded[i].first) == 2) {
            shown[i] = next++;
        } else {
            if (held >= 0) shown[static_cast<std::size_t>(held)] = next++;
            held = static_cast<int>(i);
        }
    }
    if (held >= 0) shown[static_cast<std::size_t>(held)] = next++;
    bitstream::describe_headers(test_track.track, coded.front().first);
    for (std::size_t i = 0; i < coded.size(); ++i) {
        test_track.packets.push_back(
            packet(1, base::frames_to_time(shown[i], kFilm), base::frames_to_time(static_cast<int>(i) - 1, kFilm),
                   base::frames_to_time(1, kFilm), coded[i].second, std::move(coded[i].first)));
    }
    return test_track;
}

TestTrack vpx(Codec codec, int count) {
    TestTrack test_track;
    test_track.track.kind = TrackKind::video;
    test_track.track.codec = codec;
    test_track.track.frame_rate = kFilm;
    const auto* face = codec == Codec::vp8 ? vpx_codec_vp8_cx() : vpx_codec_vp9_cx();
    vpx_codec_enc_cfg_t config;
    REQUIRE(vpx_codec_enc_config_default(face, &config, 0) == VPX_CODEC_OK);
    config.g_w = kWidth;
    config.g_h = kHeight;
    config.g_timebase = {1001, 24000};
    config.rc_target_bitrate = 600;
    config.kf_max_dist = kGroup;
    config.kf_min_dist = kGroup;
    config.g_lag_in_frames = 0;
    vpx_codec_ctx_t context;
    REQUIRE(vpx_codec_enc_init(&context, face, &config, 0) == VPX_CODEC_OK);
    vpx_codec_control(&context, VP8E_SET_CPUUSED, 8);
    const auto source = card(kHeight);
    for (int i = 0; i <= count; ++i) {
        vpx_image_t image;
        const Picture drawn = source.draw(i);
        vpx_img_wrap(&image, VPX_IMG_FMT_I420, kWidth, kHeight, 1, drawn.planes[0]);
        for (int p = 0; p < 3; ++p) {
            image.planes[p] = drawn.planes[p];
            image.stride[p] = drawn.strides[p];
        }
        REQUIRE(vpx_codec_encode(&context, i < count ? &image : nullptr, i, 1, 0, VPX_DL_REALTIME) == VPX_CODEC_OK);
        vpx_codec_iter_t iter = nullptr;
        while (const auto* out = vpx_codec_get_cx_data(&context, &iter)) {
            if (out->kind != VPX_CODEC_CX_FRAME_PKT) continue;
            const auto* bytes = static_cast<const std::uint8_t*>(out->data.frame.buf);
            ByteVector data(bytes, bytes + out->data.frame.sz);
            if (test_track.packets.empty()) bitstream::describe_headers(test_track.track, data);
            const Time at = base::frames_to_time(out->data.frame.pts, kFilm);
            test_track.packets.push_back(packet(1, at, at, base::frames_to_time(1, kFilm),
                                                (out->data.frame.flags & VPX_FRAME_IS_KEY) != 0, std::move(data)));
        }
    }
    vpx_codec_destroy(&context);
    return test_track;
}

AudioFrames chunk(std::int64_t first, int count, int channels) {
    AudioFrames audio;
    audio.pts = base::from_ticks(first, kRate);
    audio.sample_rate = kRate;
    audio.channels = channels;
    for (int i = 0; i < count; ++i) {
        for (int c = 0; c < channels; ++c) audio.samples.push_back(tone(first + i, c));
    }
    return audio;
}

TestTrack ours(std::unique_ptr<media::AudioEncoder> encoder, std::int64_t samples, int channels) {
    TestTrack test_track;
    test_track.track = encoder->track();
    for (std::int64_t at = 0; at < samples; at += 4800)
        REQUIRE(encoder->encode(chunk(at, static_cast<int>(std::min<std::int64_t>(4800, samples - at)), channels),
                                test_track.packets));
    REQUIRE(encoder->flush(test_track.packets));
    return test_track;
}

TestTrack lpcm(std::int64_t samples) {
    TestTrack test_track;
    test_track.track.codec = Codec::lpcm;
    test_track.track.bit_depth = 16;
    test_track.track.speakers = media::speaker::kStereo;
    for (std::int64_t at = 0; at < samples; at += 4096) {
        const int count = static_cast<int>(std::min<std::int64_t>(4096, samples - at));
        ByteVector data;
        for (int i = 0; i < count; ++i) {
            for (int c = 0; c < 2; ++c) {
                const auto v = static_cast<std::int16_t>(tone(at + i, c) * 32000);
                data.push_back(static_cast<std::uint8_t>(v >> 8));
                data.push_back(static_cast<std::uint8_t>(v & 255));
            }
        }
        const Time pts = base::from_ticks(at, kRate);
        test_track.packets.push_back(packet(2, pts, pts, base::from_ticks(count, kRate), true, std::move(data)));
    }
    return test_track;
}

// Channels of 5.1 in the order that a format has, as indices into kSpeakerTones.
constexpr int kVorbisOrder[] = {0, 2, 1, 4, 5, 3};  // left, centre, right, surrounds, low frequency
constexpr int kFlacOrder[] = {0, 1, 2, 3, 4, 5};
float sample_of(std::int64_t n, int channel, int channels, const int* order) {
    if (channels != 6) return tone(n, channel);
    return 0.3f *
           static_cast<float>(std::sin(2 * M_PI * kSpeakerTones[order[channel]] * static_cast<double>(n) / kRate));
}

TestTrack flac(std::int64_t samples, int channels) {
    struct Out {
        TestTrack test_track;
        ByteVector head;
        std::int64_t at = 0;
    } out;
    FLAC__StreamEncoder* encoder = FLAC__stream_encoder_new();
    FLAC__stream_encoder_set_channels(encoder, static_cast<std::uint32_t>(channels));
    FLAC__stream_encoder_set_bits_per_sample(encoder, 16);
    FLAC__stream_encoder_set_sample_rate(encoder, kRate);
    FLAC__stream_encoder_set_total_samples_estimate(encoder, static_cast<FLAC__uint64>(samples));
    const auto write = [](const FLAC__StreamEncoder*, const FLAC__byte bytes[], std::size_t size, std::uint32_t count,
                          std::uint32_t, void* data) {
        Out& o = *static_cast<Out*>(data);
        if (count == 0) {
            o.head.insert(o.head.end(), bytes, bytes + size);
        } else {
            const Time pts = base::from_ticks(o.at, kRate);
            o.test_track.packets.push_back(
                packet(2, pts, pts, base::from_ticks(count, kRate), true, ByteVector(bytes, bytes + size)));
            o.at += count;
        }
        return FLAC__STREAM_ENCODER_WRITE_STATUS_OK;
    };
    REQUIRE(FLAC__stream_encoder_init_stream(encoder, write, nullptr, nullptr, nullptr, &out) ==
            FLAC__STREAM_ENCODER_INIT_STATUS_OK);
    for (std::int64_t i = 0; i < samples; ++i) {
        FLAC__int32 frame[6] = {};
        for (int c = 0; c < channels; ++c)
            frame[c] = static_cast<FLAC__int32>(sample_of(i, c, channels, kFlacOrder) * 32000);
        FLAC__stream_encoder_process_interleaved(encoder, frame, 1);
    }
    FLAC__stream_encoder_finish(encoder);
    FLAC__stream_encoder_delete(encoder);
    out.test_track.track.codec = Codec::flac;
    REQUIRE(out.head.size() >= 42);
    out.test_track.track.codec_config = Bytes(ByteVector(out.head.begin() + 8, out.head.begin() + 42));
    return std::move(out.test_track);
}

TestTrack opus(std::int64_t samples, int channels) {
    TestTrack test_track;
    int error = 0, streams = 0, coupled = 0;
    std::uint8_t mapping[8] = {};
    OpusMSEncoder* encoder = opus_multistream_surround_encoder_create(
        kRate, channels, channels > 2 ? 1 : 0, &streams, &coupled, mapping, OPUS_APPLICATION_AUDIO, &error);
    REQUIRE(error == OPUS_OK);
    opus_int32 skip = 0;
    opus_multistream_encoder_ctl(encoder, OPUS_GET_LOOKAHEAD(&skip));
    bitstream::OpusHead head;
    head.channels = channels;
    head.pre_skip = skip;
    head.input_rate = kRate;
    if (channels > 2) {
        head.family = 1;
        head.mapping = {static_cast<std::uint8_t>(streams), static_cast<std::uint8_t>(coupled)};
        head.mapping.insert(head.mapping.end(), mapping, mapping + channels);
    }
    test_track.track.codec = Codec::opus;
    test_track.track.channels = channels;
    test_track.track.codec_config = Bytes(bitstream::make_opus_head(head));
    for (std::int64_t at = 0; at < samples + skip; at += 960) {
        std::vector<float> frame;
        for (std::int64_t n = at; n < at + 960; ++n) {
            for (int c = 0; c < channels; ++c) frame.push_back(sample_of(n, c, channels, kVorbisOrder));
        }
        ByteVector data(12000);
        const int size = opus_multistream_encode_float(encoder, frame.data(), 960, data.data(),
                                                       static_cast<opus_int32>(data.size()));
        REQUIRE(size > 0);
        data.resize(static_cast<std::size_t>(size));
        const Time pts = base::from_ticks(at - skip, kRate);
        const std::int64_t heard = std::min<std::int64_t>(960, samples + skip - at);
        test_track.packets.push_back(packet(2, pts, pts, base::from_ticks(heard, kRate), true, std::move(data)));
    }
    opus_multistream_encoder_destroy(encoder);
    return test_track;
}

TestTrack vorbis(std::int64_t samples, int channels) {
    TestTrack test_track;
    vorbis_info info;
    vorbis_info_init(&info);
    REQUIRE(vorbis_encode_init_vbr(&info, channels, kRate, 0.4f) == 0);
    vorbis_comment comment;
    vorbis_comment_init(&comment);
    vorbis_dsp_state dsp;
    vorbis_analysis_init(&dsp, &info);
    vorbis_block block;
    vorbis_block_init(&dsp, &block);
    ogg_packet headers[3];
    vorbis_analysis_headerout(&dsp, &comment, &headers[0], &headers[1], &headers[2]);
    const auto span = [](const ogg_packet& p) { return ByteSpan(p.packet, static_cast<std::size_t>(p.bytes)); };
    test_track.track.codec = Codec::vorbis;
    test_track.track.codec_config =
        Bytes(bitstream::join_vorbis_headers(span(headers[0]), span(headers[1]), span(headers[2])));
    const auto timer = bitstream::VorbisTimer::create(test_track.track.codec_config.view());
    REQUIRE(timer);
    std::int64_t given = 0;
    const auto take = [&] {
        while (vorbis_analysis_blockout(&dsp, &block) == 1) {
            vorbis_analysis(&block, nullptr);
            vorbis_bitrate_addblock(&block);
            ogg_packet p;
            while (vorbis_bitrate_flushpacket(&dsp, &p) != 0) {
                const int length = timer->samples(span(p));
                const std::int64_t heard = std::min<std::int64_t>(length, samples - given);
                const Time pts = base::from_ticks(given, kRate);
                test_track.packets.push_back(packet(2, pts, pts, base::from_ticks(heard, kRate), true,
                                                    ByteVector(p.packet, p.packet + p.bytes)));
                given += length;
            }
        }
    };
    for (std::int64_t at = 0; at < samples; at += 4800) {
        const int count = static_cast<int>(std::min<std::int64_t>(4800, samples - at));
        float** buffer = vorbis_analysis_buffer(&dsp, count);
        for (int i = 0; i < count; ++i) {
            for (int c = 0; c < channels; ++c) buffer[c][i] = sample_of(at + i, c, channels, kVorbisOrder);
        }
        vorbis_analysis_wrote(&dsp, count);
        take();
    }
    vorbis_analysis_wrote(&dsp, 0);
    take();
    vorbis_block_clear(&block);
    vorbis_dsp_clear(&dsp);
    vorbis_comment_clear(&comment);
    vorbis_info_clear(&info);
    return test_track;
}

// Layers II and III: a stream of frames, cut by the splitter that readers use.
// Frames of MPEG audio, one after the other.
TestTrack framed(Codec codec, ByteSpan stream, int rate, Time from) {
    bitstream::AudioFrameSplitter splitter(codec);
    std::vector<bitstream::AudioFrame> frames;
    splitter.push(stream, std::nullopt, frames);
    splitter.flush(frames);
    TestTrack test_track;
    test_track.track.codec = codec;
    std::int64_t at = 0;
    for (auto& frame : frames) {
        const Time pts = from + base::from_ticks(at, rate);
        test_track.packets.push_back(
            packet(2, pts, pts, base::from_ticks(frame.header.samples, rate), true, std::move(frame.data)));
        at += frame.header.samples;
    }
    return test_track;
}

ByteVector encode_layer_2(const std::vector<float>& stereo, int rate) {
    ByteVector stream(1 << 20);
    twolame_options* options = twolame_init();
    twolame_set_in_samplerate(options, rate);
    twolame_set_out_samplerate(options, rate);
    twolame_set_num_channels(options, 2);
    twolame_set_bitrate(options, 192);
    REQUIRE(twolame_init_params(options) == 0);
    auto used = static_cast<std::size_t>(twolame_encode_buffer_float32_interleaved(
        options, stereo.data(), static_cast<int>(stereo.size() / 2), stream.data(), static_cast<int>(stream.size())));
    used += static_cast<std::size_t>(
        twolame_encode_flush(options, stream.data() + used, static_cast<int>(stream.size() - used)));
    twolame_close(&options);
    stream.resize(used);
    return stream;
}

TestTrack mpeg_audio(Codec codec, std::int64_t samples) {
    ByteVector stream(1 << 20);
    std::size_t used = 0;
    std::vector<float> all;
    for (std::int64_t i = 0; i < samples; ++i) {
        all.push_back(tone(i, 0));
        all.push_back(tone(i, 1));
    }
    if (codec == Codec::mp3) {
        lame_t lame = lame_init();
        lame_set_in_samplerate(lame, kRate);
        lame_set_num_channels(lame, 2);
        lame_set_brate(lame, 128);
        lame_set_bWriteVbrTag(lame, 0);
        REQUIRE(lame_init_params(lame) == 0);
        used += static_cast<std::size_t>(lame_encode_buffer_interleaved_ieee_float(
            lame, all.data(), static_cast<int>(samples), stream.data(), static_cast<int>(stream.size())));
        used += static_cast<std::size_t>(
            lame_encode_flush(lame, stream.data() + used, static_cast<int>(stream.size() - used)));
        lame_close(lame);
        stream.resize(used);
    } else {
        stream = encode_layer_2(all, kRate);
    }
    return framed(codec, stream, kRate, {});
}

}  // namespace

TestTrack video_track(Codec codec, int pictures, TrackId id) {
    TestTrack test_track = codec == Codec::h264    ? h264(pictures)
                           : codec == Codec::h265  ? h265(pictures, false)
                           : codec == Codec::mpeg2 ? mpeg2(pictures)
                           : codec == Codec::mpeg4 ? mpeg4(pictures)
                                                   : vpx(codec, pictures);
    test_track.track.id = id;
    for (Packet& p : test_track.packets) p.track = id;
    return test_track;
}

TestTrack vc1_track(int pictures) {
    // SMPTE ST 421, 6.1 and 6.2.
    base::BitWriter bits;
    bits.bits(0x0000010F, 32);
    bits.bits(3, 2);          // advanced
    bits.bits(2, 3);          // level
    bits.bits(1, 2);          // 4:2:0
    bits.bits(0, 3 + 5 + 1);  // frame rate and bit rate for information, postprocessing
    bits.bits(kWidth / 2 - 1, 12);
    bits.bits(kHeight / 2 - 1, 12);
    bits.bits(0b000010, 6);  // no pulldown, not interlaced, no counter, no interpolation, reserved, not segmented
    bits.bits(1, 1);         // display
    bits.bits(kWidth - 1, 14);
    bits.bits(kHeight - 1, 14);
    bits.bits(1, 1);
    bits.bits(1, 4);  // square
    bits.bits(1, 1);
    bits.bits(0, 1);
    bits.bits(1, 8);  // 24
    bits.bits(2, 4);  // / 1.001
    bits.bits(1, 1);
    bits.bits(1, 8);
    bits.bits(1, 8);
    bits.bits(1, 8);
    bits.bits(0, 1);  // no buffer model
    bits.bits(1, 1);
    ByteVector headers = bits.release();
    for (const int byte : {0x00, 0x00, 0x01, 0x0E, 0x5A, 0x64, 0xB8})
        headers.push_back(static_cast<std::uint8_t>(byte));
    TestTrack test_track;
    test_track.track.id = 1;
    test_track.track.kind = TrackKind::video;
    test_track.track.codec = Codec::vc1;
    test_track.track.frame_rate = kFilm;
    std::uint32_t noise = 7;
    for (int i = 0; i < pictures; ++i) {
        const bool key = i % kGroup == 0;
        ByteVector data = key ? headers : ByteVector{};
        for (const int byte : {0x00, 0x00, 0x01, 0x0D}) data.push_back(static_cast<std::uint8_t>(byte));
        for (int n = 0; n < (key ? 4000 : 700) + i; ++n) {
            noise = noise * 1664525u + 1013904223u;
            data.push_back(static_cast<std::uint8_t>(noise >> 24 | 0x40));
        }
        if (i == 0) bitstream::describe_headers(test_track.track, data);
        test_track.packets.push_back(packet(1, base::frames_to_time(i, kFilm), base::frames_to_time(i, kFilm),
                                            base::frames_to_time(1, kFilm), key, std::move(data)));
    }
    return test_track;
}

TestTrack open_gop_track(int pictures) {
    TestTrack test_track = h265(pictures, true);
    test_track.track.id = 1;
    test_track.track.mastering_display =
        media::MasteringDisplay{{34000, 13250, 7500}, {16000, 34500, 3000}, 15635, 16450, 10000000, 50};
    test_track.track.content_light = media::ContentLight{1000, 400};
    for (Packet& p : test_track.packets) p.track = 1;
    return test_track;
}

void add_captions(TestTrack& test_track, const std::vector<Caption>& captions) {
    std::vector<std::size_t> shown(test_track.packets.size());
    for (std::size_t i = 0; i < shown.size(); ++i) shown[i] = i;
    std::sort(shown.begin(), shown.end(),
              [&](std::size_t a, std::size_t b) { return test_track.packets[a].pts < test_track.packets[b].pts; });
    // Two letters a picture; commands twice (CEA-608-E, 8).
    std::vector<std::pair<std::uint8_t, std::uint8_t>> pairs(shown.size(), {0x80, 0x80});
    const auto odd = [](int value) {
        return static_cast<std::uint8_t>(value | (std::popcount(unsigned(value)) % 2 == 0 ? 0x80 : 0));
    };
    for (const Caption& caption : captions) {
        std::vector<std::pair<int, int>> load = {{0x14, 0x20}, {0x14, 0x20}, {0x14, 0x60}, {0x14, 0x60}};
        for (std::size_t i = 0; i < caption.text.size(); i += 2)
            load.push_back({caption.text[i], i + 1 < caption.text.size() ? caption.text[i + 1] : 0});
        const auto at = [&](Time time) {
            std::size_t i = 0;
            while (i < shown.size() && test_track.packets[shown[i]].pts < time) ++i;
            return i;
        };
        std::size_t place = at(caption.from) - load.size();
        for (const auto& [a, b] : load) pairs.at(place++) = {odd(a), odd(b)};
        for (const auto& [time, command] : {std::pair{caption.from, 0x2F}, {caption.to, 0x2C}}) {
            for (std::size_t i = 0; i < 2; ++i) pairs.at(at(time) + i) = {odd(0x14), odd(command)};
        }
    }
    // User data registered by ATSC A/53 in a supplemental enhancement information unit (H.264, D.1.6).
    for (std::size_t i = 0; i < shown.size(); ++i) {
        Packet& packet = test_track.packets[shown[i]];
        base::ByteWriter unit;
        for (const int byte : {0x06, 0x04, 14, 0xB5, 0x00, 0x31}) unit.u8(static_cast<std::uint8_t>(byte));
        unit.text("GA94");
        for (const int byte : {0x03, 0x41, 0xFF, 0xFC}) unit.u8(static_cast<std::uint8_t>(byte));
        unit.u8(pairs[i].first);
        unit.u8(pairs[i].second);
        unit.u8(0xFF);
        unit.u8(0x80);
        ByteVector data;
        bitstream::nal::append(data, unit.bytes());
        data.insert(data.end(), packet.data.view().begin(), packet.data.view().end());
        packet.data = Bytes(std::move(data));
    }
    test_track.track.closed_captions = true;
}

TestTrack layer_2_track(double seconds, int rate, Time from, TrackId id) {
    std::vector<float> stereo;
    for (int i = 0; i < static_cast<int>(seconds * rate); ++i)
        stereo.insert(stereo.end(), 2, 0.4f * static_cast<float>(std::sin(2 * M_PI * 440 * i / rate)));
    TestTrack test_track = framed(Codec::mp2, encode_layer_2(stereo, rate), rate, from);
    test_track.track.id = id;
    test_track.track.kind = TrackKind::audio;
    test_track.track.channels = 2;
    test_track.track.sample_rate = rate;
    for (Packet& p : test_track.packets) p.track = id;
    return test_track;
}

TestTrack audio_track(Codec codec, double seconds, TrackId id, int aac_bps) {
    const auto samples = static_cast<std::int64_t>(seconds * kRate);
    TestTrack test_track;
    if (codec == Codec::aac) {
        auto encoder = codec::make_aac_encoder(kRate, 2, aac_bps);
        REQUIRE(encoder);
        test_track = ours(std::move(*encoder), samples, 2);
    } else if (codec == Codec::ac3) {
        codec::Ac3Settings settings;
        settings.speakers = media::speaker::kFiveOne;
        settings.bitrate_bps = 384'000;
        auto encoder = codec::make_ac3_encoder(settings);
        REQUIRE(encoder);
        test_track = ours(std::move(*encoder), samples, 6);
    } else if (codec == Codec::lpcm) {
        test_track = lpcm(samples);
    } else if (codec == Codec::flac) {
        test_track = flac(samples, 2);
    } else if (codec == Codec::opus) {
        test_track = opus(samples, 2);
    } else if (codec == Codec::vorbis) {
        test_track = vorbis(samples, 2);
    } else {
        test_track = mpeg_audio(codec, samples);
    }
    test_track.track.id = id;
    test_track.track.kind = TrackKind::audio;
    test_track.track.language = "fr";
    if (test_track.track.channels == 0) test_track.track.channels = 2;
    if (test_track.track.sample_rate == 0) test_track.track.sample_rate = kRate;
    for (Packet& p : test_track.packets) p.track = id;
    if (!test_track.packets.empty())
        bitstream::describe_headers(test_track.track, test_track.packets.front().data.view());
    return test_track;
}

namespace {

// AAC of 5.1 from mono and stereo: their elements one after the other in one block (ISO/IEC 14496-3, 4.4.2.1).
TestTrack joined_aac(std::int64_t samples) {
    struct Part {
        int speakers[2];
        int count;
        std::uint32_t element, tag;
        TestTrack test_track;
    };
    Part parts[] = {{{2, 0}, 1, 0, 0, {}}, {{0, 1}, 2, 1, 0, {}}, {{4, 5}, 2, 1, 1, {}}, {{3, 0}, 1, 3, 0, {}}};
    for (Part& part : parts) {
        auto encoder = codec::make_aac_encoder(kRate, part.count, 64'000 * part.count);
        REQUIRE(encoder);
        part.test_track.track = (*encoder)->track();
        for (std::int64_t at = 0; at < samples; at += 4800) {
            AudioFrames audio;
            audio.sample_rate = kRate;
            audio.channels = part.count;
            audio.pts = base::from_ticks(at, kRate);
            for (std::int64_t n = at; n < std::min(at + 4800, samples); ++n) {
                for (int c = 0; c < part.count; ++c)
                    audio.samples.push_back(sample_of(n, part.speakers[c], 6, kFlacOrder));
            }
            REQUIRE((*encoder)->encode(audio, part.test_track.packets));
        }
        REQUIRE((*encoder)->flush(part.test_track.packets));
    }
    TestTrack test_track = parts[1].test_track;
    for (std::size_t i = 0; i < test_track.packets.size(); ++i) {
        base::BitWriter bits;
        for (const Part& part : parts) {
            const ByteSpan data = part.test_track.packets.at(i).data.view();
            // The block ends with three ones and is filled up with zeros.
            std::size_t end = data.size() * 8;
            const auto bit = [&](std::size_t at) {
                return static_cast<std::uint32_t>(data[at / 8] >> (7 - at % 8) & 1);
            };
            while (bit(end - 1) == 0) --end;
            bits.bits(part.element, 3);
            bits.bits(part.tag, 4);
            for (std::size_t at = 7; at < end - 3; ++at) bits.bits(bit(at), 1);
        }
        bits.bits(7, 3);
        test_track.packets[i].data = Bytes(bits.release());
    }
    ByteVector config(test_track.track.codec_config.view().begin(), test_track.track.codec_config.view().end());
    config.at(1) = static_cast<std::uint8_t>((config.at(1) & 0x87) | 6 << 3);
    test_track.track.codec_config = Bytes(std::move(config));
    test_track.track.channels = 6;
    return test_track;
}

}  // namespace

TestTrack surround_track(Codec codec, double seconds, TrackId id) {
    const auto samples = static_cast<std::int64_t>(seconds * kRate);
    TestTrack test_track = codec == Codec::aac    ? joined_aac(samples)
                           : codec == Codec::opus ? opus(samples, 6)
                           : codec == Codec::flac ? flac(samples, 6)
                                                  : vorbis(samples, 6);
    test_track.track.id = id;
    test_track.track.kind = TrackKind::audio;
    test_track.track.channels = 6;
    test_track.track.sample_rate = kRate;
    for (Packet& p : test_track.packets) p.track = id;
    bitstream::describe_headers(test_track.track, test_track.packets.front().data.view());
    return test_track;
}

TestTrack text_track(const std::vector<std::pair<std::pair<int, int>, std::string>>& cues, TrackId id) {
    TestTrack test_track;
    test_track.track.id = id;
    test_track.track.kind = TrackKind::subtitle;
    test_track.track.codec = Codec::text;
    test_track.track.language = "en";
    for (const auto& [when, text] : cues) {
        const Time from = base::from_ticks(when.first, 1000), to = base::from_ticks(when.second, 1000);
        test_track.packets.push_back(packet(id, from, from, to - from, true, ByteVector(text.begin(), text.end())));
    }
    return test_track;
}

void write_media(const base::Path& path, std::string_view format, const std::vector<TestTrack>& test_tracks,
                 container::WriterSettings settings) {
    auto file = base::AtomicFile::create(path, base::AtomicFile::IfExists::refuse);
    REQUIRE(file);
    std::vector<Track> tracks;
    for (const TestTrack& test_track : test_tracks) tracks.push_back(test_track.track);
    auto writer = container::create_media(format, std::move(*file), tracks, std::move(settings));
    if (!writer) FAIL(writer.error().what);
    std::vector<std::size_t> next(test_tracks.size());
    while (true) {
        std::size_t best = test_tracks.size();
        for (std::size_t i = 0; i < test_tracks.size(); ++i) {
            if (next[i] >= test_tracks[i].packets.size()) continue;
            if (best == test_tracks.size() ||
                test_tracks[i].packets[next[i]].dts < test_tracks[best].packets[next[best]].dts)
                best = i;
        }
        if (best == test_tracks.size()) break;
        const auto status = (*writer)->write(test_tracks[best].packets[next[best]++]);
        if (!status) FAIL(status.error().what);
    }
    const auto finished = (*writer)->finish();
    if (!finished) FAIL(finished.error().what << ", " << finished.error().where);
}

std::vector<TestTrack> read_all_packets(PacketSource& source) {
    std::vector<TestTrack> test_tracks;
    for (const Track& track : source.tracks()) test_tracks.push_back({track, {}});
    while (true) {
        auto packet = source.read();
        if (!packet) FAIL(packet.error().what << " " << packet.error().where);
        if (!*packet) break;
        for (TestTrack& test_track : test_tracks) {
            if (test_track.track.id == (*packet)->track) test_track.packets.push_back(std::move(**packet));
        }
    }
    return test_tracks;
}

std::vector<TestTrack> read_media(const base::Path& path) {
    auto file = base::FileSource::open(path);
    REQUIRE(file);
    auto media = container::open_media(std::make_shared<base::FileSource>(std::move(*file)));
    if (!media) FAIL(media.error().what << " " << media.error().where);
    return read_all_packets(*media->source);
}

std::int64_t first_picture_ticks(ByteSpan transport) {
    for (std::size_t i = 0; i + 14 < transport.size(); ++i) {
        const auto* p = &transport[i];
        if (p[0] != 0 || p[1] != 0 || p[2] != 1 || p[3] != 0xE0) continue;
        return static_cast<std::int64_t>(p[9] >> 1 & 7) << 30 | p[10] << 22 | (p[11] >> 1) << 15 | p[12] << 7 |
               p[13] >> 1;
    }
    return -1;
}

ByteVector payload_of(const TestTrack& test_track) {
    ByteVector out;
    const Codec codec = test_track.track.codec;
    for (const Packet& p : test_track.packets) {
        const ByteSpan data = p.data.view();
        if (codec != Codec::h264 && codec != Codec::h265) {
            out.insert(out.end(), data.begin(), data.end());
            continue;
        }
        for (const ByteSpan unit : bitstream::nal::split_lengths(data)) {
            const int type = bitstream::nal::type(codec, unit);
            if (!bitstream::nal::is_parameter_set(codec, type) && !bitstream::nal::is_delimiter(codec, type))
                bitstream::nal::append(out, unit);
        }
    }
    return out;
}

namespace {

std::uint32_t word(ByteSpan bytes, std::size_t at) {
    return static_cast<std::uint32_t>(bytes[at]) << 24 | static_cast<std::uint32_t>(bytes[at + 1]) << 16 |
           static_cast<std::uint32_t>(bytes[at + 2]) << 8 | bytes[at + 3];
}

// Copies boxes, putting new edit lists in and moving chunk offsets on.
struct EditRewriter {
    const std::vector<EditEntry>& edits;
    std::int64_t movie_timescale = 0, timescale = 0, offset_by = 0;

    static std::string type_of(ByteSpan box) { return {box.begin() + 4, box.begin() + 8}; }
    static std::vector<ByteSpan> boxes(ByteSpan bytes) {
        std::vector<ByteSpan> all;
        for (std::size_t at = 0; at + 8 <= bytes.size();) {
            const std::size_t size = word(bytes, at);
            all.push_back(bytes.subspan(at, size));
            at += size;
        }
        return all;
    }
    static ByteSpan find(ByteSpan box, std::initializer_list<const char*> path) {
        for (const char* name : path) {
            ByteSpan next;
            for (const ByteSpan child : boxes(box.subspan(8))) {
                if (type_of(child) == name) next = child;
            }
            box = next;
            if (box.empty()) break;
        }
        return box;
    }

    void edit_list(ByteSpan old, base::ByteWriter& out) const {
        const std::int64_t media_begin = old[8] == 1 ? word(old, 28) : word(old, 20);
        out.u32(16 + 20 * edits.size());
        out.text("elst");
        out.u32(0x01000000);
        out.u32(edits.size());
        for (const EditEntry& edit : edits) {
            out.u64(static_cast<std::uint64_t>(base::to_ticks(edit.lasts, movie_timescale)));
            const bool empty = edit.from < Time{};
            out.u64(static_cast<std::uint64_t>(empty ? -1 : media_begin + base::to_ticks(edit.from, timescale)));
            out.u16(edit.dwell ? 0 : 1);
            out.u16(0);
        }
    }
    void box(ByteSpan in, base::ByteWriter& out) {
        const std::string type = type_of(in);
        if (type == "trak") timescale = word(find(in, {"mdia", "mdhd"}), in.size() > 0 ? 20 : 0);
        if (type == "trak" && find(in, {"mdia", "mdhd"})[8] == 1) timescale = word(find(in, {"mdia", "mdhd"}), 28);
        if (type == "moov") movie_timescale = word(find(in, {"mvhd"}), find(in, {"mvhd"})[8] == 1 ? 28 : 20);
        const std::size_t at = out.size();
        if (type == "moov" || type == "trak" || type == "edts" || type == "mdia" || type == "minf" || type == "stbl") {
            out.raw(in.first(8));
            for (const ByteSpan child : boxes(in.subspan(8))) box(child, out);
            out.put_u32(at, out.size() - at);
        } else if (type == "elst") {
            edit_list(in, out);
        } else {
            out.raw(in);
            const std::uint32_t step = type == "co64" ? 8 : 4;
            if (type != "co64" && type != "stco") return;
            for (std::size_t i = 16; i + step <= in.size(); i += step) {
                const std::size_t low = i + step - 4;
                out.put_u32(at + low, word(in, low) + static_cast<std::uint32_t>(offset_by));
            }
        }
    }
};

}  // namespace

ByteVector mpeg4_avi(int pictures, bool packed, bool told) {
    constexpr int kMovieAt = 4;
    base::ByteWriter movie, index;
    const auto little = [](base::ByteWriter& out, std::uint64_t value, int count) {
        for (int i = 0; i < count; ++i) out.u8(value >> (8 * i) & 0xFF);
    };
    const auto chunk = [&](std::string_view name, bool key, ByteSpan body) {
        index.text(name);
        little(index, key ? 0x10 : 0, 4);
        little(index, movie.size() + kMovieAt, 4);
        little(index, body.size(), 4);
        movie.text(name);
        little(movie, body.size(), 4);
        movie.raw(body);
        if (body.size() % 2 != 0) movie.u8(0);
    };
    const auto source = card(kHeight);
    std::int64_t heard = 0, number = 0;
    for (auto& [data, key] : mpeg4_chunks(pictures, packed)) {
        if (!told) {
            const std::string_view text(reinterpret_cast<const char*>(data.data()), data.size());
            const std::size_t at = text.find("XviD");
            if (at != std::string_view::npos) data[at] = 'A';
        }
        chunk("00dc", key, data);
        const std::int64_t until = base::to_ticks(base::frames_to_time(++number, kFilm), kRate);
        base::ByteWriter audio;
        for (const std::int16_t v : source.audio(heard, until - heard)) little(audio, static_cast<std::uint16_t>(v), 2);
        heard = until;
        chunk("01wb", true, audio.bytes());
    }
    const auto list = [&](std::string_view name, std::string_view kind, const ByteVector& body) {
        base::ByteWriter out;
        out.text(name);
        little(out, body.size() + kind.size(), 4);
        out.text(kind);
        out.raw(body);
        return out.release();
    };
    const auto stream = [&](std::string_view kind, std::string_view fourcc, std::uint64_t scale, std::uint64_t rate,
                            std::uint64_t length, std::uint64_t sample, const ByteVector& format) {
        base::ByteWriter header;
        header.text(kind);
        header.text(fourcc);
        header.fill(12);
        for (const std::uint64_t v :
             {scale, rate, std::uint64_t{0}, length, std::uint64_t{0}, std::uint64_t{0}, sample})
            little(header, v, 4);
        header.fill(8);
        ByteVector both = list("strh", "", header.release());
        const ByteVector strf = list("strf", "", format);
        both.insert(both.end(), strf.begin(), strf.end());
        return list("LIST", "strl", both);
    };
    base::ByteWriter bitmap, wave;
    for (const std::uint64_t v : {40, kWidth, kHeight, 1 | 24 << 16}) little(bitmap, v, 4);
    bitmap.text("XVID");
    bitmap.fill(20);
    for (const auto& [value, size] : {std::pair{1, 2}, {2, 2}, {kRate, 4}, {kRate * 4, 4}, {4, 2}, {16, 2}})
        little(wave, static_cast<std::uint64_t>(value), size);
    ByteVector streams = stream("vids", "XVID", 1001, 24000, static_cast<std::uint64_t>(number), 0, bitmap.release());
    const ByteVector audio =
        stream("auds", std::string_view("\0\0\0\0", 4), 1, kRate, static_cast<std::uint64_t>(heard), 4, wave.release());
    streams.insert(streams.end(), audio.begin(), audio.end());
    ByteVector body = list("LIST", "hdrl", streams);
    for (const ByteVector& part : {list("LIST", "movi", movie.bytes()), list("idx1", "", index.bytes())})
        body.insert(body.end(), part.begin(), part.end());
    return list("RIFF", "AVI ", body);
}

ByteVector with_edits(ByteSpan mp4, const std::vector<EditEntry>& edits) {
    const auto rewrite = [&](std::int64_t offset_by) {
        base::ByteWriter out;
        EditRewriter rewriter{edits, 0, 0, offset_by};
        std::size_t at = 0;
        while (at + 8 <= mp4.size() && EditRewriter::type_of(mp4.subspan(at)) != "mdat") {
            const std::size_t size = word(mp4, at);
            rewriter.box(mp4.subspan(at, size), out);
            at += size;
        }
        const std::size_t index = out.size();
        out.raw(mp4.subspan(at));
        return std::pair(out.release(), static_cast<std::int64_t>(index) - static_cast<std::int64_t>(at));
    };
    return rewrite(rewrite(0).second).first;
}

}  // namespace wavecrest::test
