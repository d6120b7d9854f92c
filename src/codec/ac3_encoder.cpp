#include "codec/ac3_encoder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "base/bits.hpp"
#include "bitstream/audio_frames.hpp"
#include "codec/ac3_tables.hpp"

namespace wavecrest::codec {
namespace {

using namespace ac3;
using namespace media::speaker;
using base::BitWriter;

constexpr int kBlocks = 6;
constexpr int kSampleRate = 48000;
constexpr int kLowFrequencyEnd = 7;  // coefficients of the low-frequency channel

// Bit allocation parameters written in every frame (clause 4.3.3): codes into the tables.
constexpr int kSlowDecayCode = 2, kFastDecayCode = 1, kSlowGainCode = 1, kKneeCode = 2, kFloorCode = 7;
constexpr int kFastGainCode = 4;

enum Strategy { kReuse = 0, kEvery = 1, kEverySecond = 2, kEveryFourth = 3 };

// The 512-sample window (6.9.5): Kaiser-Bessel derived, alpha 5; its rising half.
const std::array<float, kCoefficients>& window() {
    static const auto table = [] {
        const auto bessel = [](double x) {
            double sum = 1, term = 1;
            for (int i = 1; i < 60; ++i) {
                term *= x / (2 * i) * (x / (2 * i));
                sum += term;
            }
            return sum;
        };
        constexpr int n = kCoefficients;
        std::array<double, n + 1> kaiser{};
        double total = 0;
        for (int i = 0; i <= n; ++i) {
            const double r = 2.0 * i / n - 1;
            total += kaiser[static_cast<std::size_t>(i)] =
                bessel(std::numbers::pi * 5 * std::sqrt(std::max(0.0, 1 - r * r)));
        }
        std::array<float, n> w{};
        double sum = 0;
        for (std::size_t i = 0; i < n; ++i) w[i] = static_cast<float>(std::sqrt((sum += kaiser[i]) / total));
        return w;
    }();
    return table;
}

// The transform of 8.2.3.2 (long blocks) by folding and a cosine matrix: 256 coefficients of 512 windowed samples.
class Transform {
  public:
    Transform() : matrix_(static_cast<std::size_t>(kCoefficients) * kCoefficients) {
        for (int k = 0; k < kCoefficients; ++k) {
            for (int n = 0; n < kCoefficients; ++n) {
                matrix_[static_cast<std::size_t>(k * kCoefficients + n)] = static_cast<float>(
                    -2.0 / (2 * kCoefficients) * std::cos(std::numbers::pi / kCoefficients * (n + 0.5) * (k + 0.5)));
            }
        }
    }
    void apply(const float* x, float* coefficients) const {
        constexpr int m = kCoefficients, half = m / 2;
        std::array<float, m> folded;
        for (int n = 0; n < half; ++n) {
            folded[static_cast<std::size_t>(n)] = -x[3 * half - 1 - n] - x[3 * half + n];
            folded[static_cast<std::size_t>(half + n)] = x[n] - x[m - 1 - n];
        }
        for (int k = 0; k < m; ++k) {
            const float* row = matrix_.data() + static_cast<std::size_t>(k) * m;
            std::array<float, 8> sums{};
            for (std::size_t n = 0; n < m; n += 8) {
                for (std::size_t i = 0; i < 8; ++i) sums[i] += row[n + i] * folded[n + i];
            }
            coefficients[k] = ((sums[0] + sums[1]) + (sums[2] + sums[3])) + ((sums[4] + sums[5]) + (sums[6] + sums[7]));
        }
    }

  private:
    std::vector<float> matrix_;
};

struct ChannelBlock {
    std::array<float, kCoefficients> coefficients{};
    std::array<std::uint8_t, kCoefficients> exponents{};
    std::array<std::uint8_t, kCoefficients> pointers{};  // bit allocation
    Strategy strategy = kReuse;
};

// The level of a band with the neighbours that mask it (6.2.2.4); `level` is the power of each band.
class Masking {
  public:
    // Mask by band for coefficients 0 to end.
    static void compute(const std::array<std::uint8_t, kCoefficients>& exponents, int end,
                        std::array<int, kCoefficients>& power, std::array<int, kBands>& mask) {
        std::array<int, kBands + 1> band{};
        int bands = 0;
        for (int i = 0; i < end; ++i) {
            power[static_cast<std::size_t>(i)] = 3072 - (exponents[static_cast<std::size_t>(i)] << 7);
        }
        for (int b = 0; kBandStart[static_cast<std::size_t>(b)] < end; ++b, ++bands) {
            const int from = kBandStart[static_cast<std::size_t>(b)],
                      to = std::min(kBandStart[static_cast<std::size_t>(b) + 1], end);
            int sum = power[static_cast<std::size_t>(from)];
            for (int i = from + 1; i < to; ++i) {
                const int other = power[static_cast<std::size_t>(i)];
                sum = std::max(sum, other) +
                      kLogAddition[static_cast<std::size_t>(std::min(std::abs(sum - other) >> 1, 255))];
            }
            band[static_cast<std::size_t>(b)] = sum;
        }
        const int fast_decay = kFastDecay[kFastDecayCode], slow_decay = kSlowDecay[kSlowDecayCode];
        const int fast_gain = kFastGain[kFastGainCode], slow_gain = kSlowGain[kSlowGainCode];
        std::array<int, kBands> excitation{};
        const auto at = [&](int b) { return band[static_cast<std::size_t>(b)]; };
        int low = 0, fast = 0, slow = 0;
        low = low_compensation(low, at(0), at(1), 0);
        excitation[0] = at(0) - fast_gain - low;
        low = low_compensation(low, at(1), at(2), 1);
        excitation[1] = at(1) - fast_gain - low;
        int begin = 7;
        for (int b = 2; b < 7; ++b) {
            const bool last_of_low_frequency = bands == 7 && b == 6;
            if (!last_of_low_frequency) low = low_compensation(low, at(b), at(b + 1), b);
            fast = at(b) - fast_gain;
            slow = at(b) - slow_gain;
            excitation[static_cast<std::size_t>(b)] = fast - low;
            if (!last_of_low_frequency && at(b) <= at(b + 1)) {
                begin = b + 1;
                break;
            }
        }
        for (int b = begin; b < bands; ++b) {
            if (b < 22 && !(bands == 7 && b == 6)) low = low_compensation(low, at(b), at(b + 1), b);
            fast = std::max(fast - fast_decay, at(b) - fast_gain);
            slow = std::max(slow - slow_decay, at(b) - slow_gain);
            excitation[static_cast<std::size_t>(b)] = std::max(b < 22 ? fast - low : fast, slow);
        }
        for (int b = 0; b < bands; ++b) {
            int& e = excitation[static_cast<std::size_t>(b)];
            if (at(b) < kKnee[kKneeCode]) e += (kKnee[kKneeCode] - at(b)) >> 2;
            mask[static_cast<std::size_t>(b)] = std::max(e, kThreshold48[static_cast<std::size_t>(b)]);
        }
    }

  private:
    static int low_compensation(int a, int here, int next, int band) {
        if (band < 7) {
            if (here + 256 == next) return 384;
            return here > next ? std::max(0, a - 64) : a;
        }
        if (band < 20) {
            if (here + 256 == next) return 320;
            return here > next ? std::max(0, a - 64) : a;
        }
        return std::max(0, a - 128);
    }
};

// Bits of the mantissas of one block; grouped ones (pointers 1, 2 and 4) are shared by all its channels.
class MantissaCount {
  public:
    void add(const std::array<std::uint8_t, kCoefficients>& pointers, int end) {
        for (int i = 0; i < end; ++i) ++counts_[pointers[static_cast<std::size_t>(i)]];
    }
    std::int64_t bits() const {
        std::int64_t sum = (counts_[1] + 2) / 3 * 5 + (counts_[2] + 2) / 3 * 7 + (counts_[4] + 1) / 2 * 7;
        for (std::size_t p = 3; p < 16; ++p) sum += counts_[p] * kBits[p];
        return sum;
    }

  private:
    std::array<std::int64_t, 16> counts_{};
};

// Writes mantissas; a group is written when it is full, at the place where it began.
class MantissaWriter {
  public:
    struct Word {
        std::uint32_t value;
        int bits;
    };
    void add(float mantissa, int pointer) {
        if (pointer == 0) return;
        if (pointer <= 5) {
            const int levels = kLevels[static_cast<std::size_t>(pointer)];
            const int code = std::clamp(
                static_cast<int>(std::floor((mantissa * static_cast<float>(levels) + static_cast<float>(levels)) / 2)),
                0, levels - 1);
            if (pointer == 3 || pointer == 5) {
                words_.push_back({static_cast<std::uint32_t>(code), kBits[static_cast<std::size_t>(pointer)]});
                return;
            }
            Group& group = pointer == 1 ? three_ : pointer == 2 ? five_ : eleven_;
            const int size = pointer == 4 ? 2 : 3;
            if (group.filled == 0) {
                group.word = words_.size();
                words_.push_back({0, pointer == 1 ? 5 : 7});
            }
            // Members from the first have the weights levels^2, levels, 1.
            std::uint32_t weight = 1;
            for (int i = group.filled + 1; i < size; ++i) weight *= static_cast<std::uint32_t>(levels);
            words_[group.word].value += weight * static_cast<std::uint32_t>(code);
            group.filled = (group.filled + 1) % size;
            return;
        }
        const int bits = kBits[static_cast<std::size_t>(pointer)];
        const int most = 1 << (bits - 1);
        const int value =
            std::clamp(static_cast<int>(std::lround(mantissa * static_cast<float>(most))), -most, most - 1);
        words_.push_back({static_cast<std::uint32_t>(value), bits});
    }
    void write(BitWriter& out) const {
        for (const Word& word : words_) out.bits(word.value, word.bits);
    }

  private:
    struct Group {
        std::size_t word = 0;
        int filled = 0;
    };
    std::vector<Word> words_;
    Group three_, five_, eleven_;
};

// CRC of 4.4.1.2: x^16 + x^15 + x^2 + 1.
constexpr std::uint32_t kPolynomial = 0x18005;

std::uint16_t crc(ByteSpan bytes) {
    std::uint32_t sum = 0;
    for (const std::uint8_t byte : bytes) {
        sum ^= static_cast<std::uint32_t>(byte) << 8;
        for (int i = 0; i < 8; ++i) sum = (sum & 0x8000) != 0 ? sum << 1 ^ kPolynomial : sum << 1;
    }
    return static_cast<std::uint16_t>(sum);
}
std::uint32_t multiply(std::uint32_t a, std::uint32_t b) {
    std::uint32_t product = 0;
    for (; a != 0; a >>= 1) {
        if ((a & 1) != 0) product ^= b;
        b <<= 1;
        if ((b & 0x10000) != 0) b ^= kPolynomial;
    }
    return product;
}
// x to the power -n modulo the polynomial; (polynomial >> 1) is the inverse of x.
std::uint32_t inverse_power(std::size_t n) {
    std::uint32_t result = 1, factor = kPolynomial >> 1;
    for (; n != 0; n >>= 1) {
        if ((n & 1) != 0) result = multiply(result, factor);
        factor = multiply(factor, factor);
    }
    return result;
}

class Ac3Encoder : public media::AudioEncoder {
  public:
    Ac3Encoder(const Ac3Settings& settings, int mode, int rate_index)
        : settings_(settings), mode_(mode), rate_index_(rate_index) {
        track_.kind = TrackKind::audio;
        track_.codec = Codec::ac3;
        track_.channels = media::speaker_count(settings.speakers);
        track_.speakers = settings.speakers;
        track_.sample_rate = kSampleRate;
        track_.bitrate_bps = settings.bitrate_bps;
        track_.purpose = settings.purpose;
        has_low_ = (settings.speakers & kLowFrequency) != 0;
        full_channels_ = track_.channels - (has_low_ ? 1 : 0);
        // Which of the interleaved channels is coded at each place: left, centre, right, surround; low frequency last.
        for (const Speakers s :
             {kLeft, kCentre, kRight, kLeftSurround, kRightSurround, kCentreSurround, kLowFrequency}) {
            if ((settings.speakers & s) != 0) order_.push_back(media::speaker_count(settings.speakers & (s - 1)));
        }
        const auto channels = static_cast<std::size_t>(track_.channels);
        history_.resize(channels);
        for (auto& h : history_) h.assign(kCoefficients, 0.0f);
        for (auto& block : blocks_) block.resize(channels);
        // The bandwidth follows from the bits a channel gets: from 12 to 23.7 kHz (4.4.3.20: 37 + 3 (code + 12)).
        const std::int64_t each = settings.bitrate_bps / full_channels_;
        bandwidth_code_ = each >= 88'000 ? 60 : each >= 64'000 ? 48 : each >= 48'000 ? 36 : 24;
        end_ = 37 + 3 * (bandwidth_code_ + 12);
    }

    const Track& track() const override { return track_; }

    Status encode(const AudioFrames& audio, std::vector<Packet>& out) override {
        if (!start_) start_ = audio.pts;
        waiting_.insert(waiting_.end(), audio.samples.begin(), audio.samples.end());
        const auto frame = static_cast<std::size_t>(kAc3FrameSamples * track_.channels);
        std::size_t at = 0;
        for (; at + frame <= waiting_.size(); at += frame) encode_frame(waiting_.data() + at, out);
        waiting_.erase(waiting_.begin(), waiting_.begin() + static_cast<std::ptrdiff_t>(at));
        return {};
    }
    Status flush(std::vector<Packet>& out) override {
        if (!start_) return {};
        // What is left, and the overlap's second half behind it.
        const std::size_t left = waiting_.size() / static_cast<std::size_t>(track_.channels) + kAc3Delay;
        const std::size_t frames = (left + kAc3FrameSamples - 1) / kAc3FrameSamples;
        waiting_.resize(frames * static_cast<std::size_t>(kAc3FrameSamples * track_.channels), 0.0f);
        AudioFrames rest;
        rest.pts = *start_;
        return encode(rest, out);
    }

  private:
    int end_of(std::size_t channel) const {
        return static_cast<int>(channel) < full_channels_ ? end_ : kLowFrequencyEnd;
    }

    void encode_frame(const float* samples, std::vector<Packet>& out) {
        analyse(samples);
        choose_exponents();
        const std::size_t bytes = static_cast<std::size_t>(kRates[static_cast<std::size_t>(rate_index_)]) * 4;
        const auto total = static_cast<std::int64_t>(bytes) * 8;
        // Everything but the mantissas, whose room the signal-to-noise offset then fills.
        BitWriter side;
        write_frame(side, 0, false);
        // crc2 and the bit that says no auxiliary data follows.
        const std::int64_t room = total - static_cast<std::int64_t>(side.bit_count()) - 18;
        int low = -1, high = 1023;  // the best offset that fits; -1 is none at all
        prepare_masks();
        while (low < high) {
            const int middle = (low + high + 1) / 2;
            if (allocate(middle) <= room) {
                low = middle;
            } else {
                high = middle - 1;
            }
        }
        allocate(low);
        BitWriter writer;
        write_frame(writer, std::max(low, 0), true);
        ByteVector frame = writer.release();
        frame.resize(bytes);
        finish_checks(frame);

        Packet packet;
        packet.pts = packet.dts = *start_ + base::from_ticks(frames_ * kAc3FrameSamples - kAc3Delay, kSampleRate);
        packet.duration = base::from_ticks(kAc3FrameSamples, kSampleRate);
        packet.key = true;
        packet.data = Bytes(std::move(frame));
        out.push_back(std::move(packet));
        ++frames_;
    }

    void analyse(const float* samples) {
        const auto& w = window();
        for (std::size_t channel = 0; channel < order_.size(); ++channel) {
            for (std::size_t block = 0; block < kBlocks; ++block) {
                std::array<float, 2 * kCoefficients> windowed;
                auto& old = history_[channel];
                const float* from =
                    samples + block * kCoefficients * static_cast<std::size_t>(track_.channels) + order_[channel];
                for (std::size_t i = 0; i < kCoefficients; ++i) {
                    windowed[i] = old[i] * w[i];
                    const float now = std::clamp(from[i * static_cast<std::size_t>(track_.channels)], -1.0f, 1.0f);
                    old[i] = now;
                    windowed[kCoefficients + i] = now * w[kCoefficients - 1 - i];
                }
                ChannelBlock& result = blocks_[block][channel];
                transform_.apply(windowed.data(), result.coefficients.data());
                for (std::size_t i = 0; i < kCoefficients; ++i) {
                    // The exponent: leading zeros of the magnitude, at most 24 (8.2.7).
                    int exponent = 24;
                    const float magnitude = std::abs(result.coefficients[i]);
                    if (magnitude > 0) {
                        int power = 0;
                        std::frexp(magnitude, &power);
                        exponent = std::clamp(-power, 0, 24);
                    }
                    result.exponents[i] = static_cast<std::uint8_t>(exponent);
                }
            }
        }
    }

    // Blocks whose spectra are alike share exponents; the finer the exponents, the longer they must serve.
    void choose_exponents() {
        for (std::size_t channel = 0; channel < order_.size(); ++channel) {
            const int end = end_of(channel);
            const bool low = static_cast<int>(channel) >= full_channels_;
            for (std::size_t from = 0; from < kBlocks;) {
                std::size_t to = from + 1;
                auto shared = blocks_[from][channel].exponents;
                while (to < kBlocks && distance(shared, blocks_[to][channel].exponents, end) < 3 * end) {
                    for (std::size_t i = 0; i < kCoefficients; ++i)
                        shared[i] = std::min(shared[i], blocks_[to][channel].exponents[i]);
                    ++to;
                }
                const std::size_t run = to - from;
                const Strategy strategy = low || run >= 4 ? kEvery : run >= 2 ? kEverySecond : kEveryFourth;
                constrain(shared, end, strategy);
                for (std::size_t block = from; block < to; ++block) {
                    blocks_[block][channel].exponents = shared;
                    blocks_[block][channel].strategy = block == from ? strategy : kReuse;
                }
                from = to;
            }
        }
    }
    static int distance(const std::array<std::uint8_t, kCoefficients>& a,
                        const std::array<std::uint8_t, kCoefficients>& b, int end) {
        int sum = 0;
        for (std::size_t i = 0; i < static_cast<std::size_t>(end); ++i) sum += std::abs(a[i] - b[i]);
        return sum;
    }
    static std::size_t step_of(Strategy strategy) {
        return strategy == kEverySecond ? 2 : strategy == kEveryFourth ? 4 : 1;
    }
    // Makes exponents representable: equal within a group, neighbours at most 2 apart, the first at most 15. They may
    // only become smaller, which leaves mantissas below 1.
    static void constrain(std::array<std::uint8_t, kCoefficients>& e, int end, Strategy strategy) {
        const std::size_t step = step_of(strategy);
        const std::size_t groups = group_count(end, strategy) * 3;
        std::vector<int> values(groups + 1);
        values[0] = std::min<int>(e[0], 15);
        for (std::size_t g = 0; g < groups; ++g) {
            int least = 24;
            for (std::size_t i = 1 + g * step; i < 1 + (g + 1) * step && i < kCoefficients; ++i)
                least = std::min<int>(least, i < static_cast<std::size_t>(end) ? e[i] : 24);
            values[g + 1] = least;
        }
        for (std::size_t i = 1; i < values.size(); ++i) values[i] = std::min(values[i], values[i - 1] + 2);
        for (std::size_t i = values.size() - 1; i > 0; --i) values[i - 1] = std::min(values[i - 1], values[i] + 2);
        e[0] = static_cast<std::uint8_t>(values[0]);
        for (std::size_t g = 0; g < groups; ++g) {
            for (std::size_t i = 1 + g * step; i < 1 + (g + 1) * step && i < kCoefficients; ++i)
                e[i] = static_cast<std::uint8_t>(values[g + 1]);
        }
    }
    // Coded groups of three differences (6.1.3).
    static std::size_t group_count(int end, Strategy strategy) {
        if (end == kLowFrequencyEnd) return 2;
        switch (strategy) {
            case kEverySecond:
                return static_cast<std::size_t>((end - 1 + 3) / 6);
            case kEveryFourth:
                return static_cast<std::size_t>((end - 1 + 9) / 12);
            default:
                return static_cast<std::size_t>((end - 1) / 3);
        }
    }

    void prepare_masks() {
        for (std::size_t block = 0; block < kBlocks; ++block) {
            masks_[block].resize(order_.size());
            for (std::size_t channel = 0; channel < order_.size(); ++channel) {
                if (blocks_[block][channel].strategy == kReuse && block > 0) {
                    masks_[block][channel] = masks_[block - 1][channel];
                    continue;
                }
                Mask& m = masks_[block][channel];
                Masking::compute(blocks_[block][channel].exponents, end_of(channel), m.power, m.mask);
            }
        }
    }
    // Sets all pointers for an offset (coarse and fine code together, 0 to 1023) and gives the mantissas' bits.
    std::int64_t allocate(int code) {
        const int offset = ((code / 16 - 15) * 16 + code % 16) * 4;
        constexpr int floor_level = kFloor[kFloorCode];
        std::int64_t bits = 0;
        for (std::size_t block = 0; block < kBlocks; ++block) {
            MantissaCount count;
            for (std::size_t channel = 0; channel < order_.size(); ++channel) {
                auto& pointers = blocks_[block][channel].pointers;
                const int end = end_of(channel);
                if (code <= 0) {  // all offsets zero: nothing is allocated (6.2.2.1)
                    pointers.fill(0);
                    continue;
                }
                const Mask& m = masks_[block][channel];
                for (std::size_t b = 0; kBandStart[b] < end; ++b) {
                    const int level = (std::max(m.mask[b] - offset - floor_level, 0) & 0x1FE0) + floor_level;
                    for (int i = kBandStart[b]; i < std::min(kBandStart[b + 1], end); ++i) {
                        const int address = std::clamp((m.power[static_cast<std::size_t>(i)] - level) >> 5, 0, 63);
                        pointers[static_cast<std::size_t>(i)] = kPointer[static_cast<std::size_t>(address)];
                    }
                }
                count.add(pointers, end);
            }
            bits += count.bits();
        }
        return bits;
    }

    void write_frame(BitWriter& out, int offset_code, bool mantissas) const {
        // syncinfo (4.3.1); crc1 is filled in afterwards.
        out.bits(0x0B77, 16);
        out.bits(0, 16);
        out.bits(0, 2);  // 48 kHz
        out.bits(static_cast<std::uint32_t>(2 * rate_index_), 6);
        // bsi (4.3.2)
        out.bits(8, 5);
        out.bits(settings_.purpose == Purpose::commentary ? 5u : settings_.purpose == Purpose::described ? 2u : 0u, 3);
        out.bits(static_cast<std::uint32_t>(mode_), 3);
        if ((mode_ & 1) != 0 && mode_ != 1) out.bits(0, 2);  // centre mix level -3 dB
        if ((mode_ & 4) != 0) out.bits(0, 2);                // surround mix level -3 dB
        if (mode_ == 2) out.bits(0, 2);                      // surround mode not indicated
        out.bits(has_low_ ? 1 : 0, 1);
        out.bits(static_cast<std::uint32_t>(settings_.dialogue_level), 5);
        out.bits(0, 3);  // no compression word, language code, production information
        out.bits(0, 1);  // copyright
        out.bits(1, 1);  // original
        out.bits(0, 3);  // no time codes, no additional information
        for (std::size_t block = 0; block < kBlocks; ++block) write_block(out, block, offset_code, mantissas);
    }

    void write_block(BitWriter& out, std::size_t block, int offset_code, bool mantissas) const {
        const auto full = static_cast<std::size_t>(full_channels_);
        const auto& channels = blocks_[block];
        for (std::size_t c = 0; c < full; ++c) out.bits(0, 1);  // long blocks
        for (std::size_t c = 0; c < full; ++c) out.bits(1, 1);  // dither
        out.bits(0, 1);                                         // no dynamic range word
        out.bits(block == 0 ? 1 : 0, 1);                        // coupling strategy ...
        if (block == 0) out.bits(0, 1);                         // ... none
        if (mode_ == 2) {
            out.bits(block == 0 ? 1 : 0, 1);
            if (block == 0) out.bits(0, 4);  // no rematrixing in four bands
        }
        for (std::size_t c = 0; c < full; ++c) out.bits(channels[c].strategy, 2);
        if (has_low_) out.bits(channels[full].strategy == kReuse ? 0 : 1, 1);
        for (std::size_t c = 0; c < full; ++c) {
            if (channels[c].strategy != kReuse) out.bits(static_cast<std::uint32_t>(bandwidth_code_), 6);
        }
        for (std::size_t c = 0; c < channels.size(); ++c) {
            if (channels[c].strategy == kReuse) continue;
            write_exponents(out, channels[c], end_of(c));
            if (c < full) out.bits(0, 2);  // gain range
        }
        out.bits(block == 0 ? 1 : 0, 1);
        if (block == 0) {
            out.bits(kSlowDecayCode, 2);
            out.bits(kFastDecayCode, 2);
            out.bits(kSlowGainCode, 2);
            out.bits(kKneeCode, 2);
            out.bits(kFloorCode, 3);
        }
        out.bits(block == 0 ? 1 : 0, 1);
        if (block == 0) {
            out.bits(static_cast<std::uint32_t>(offset_code / 16), 6);
            for (std::size_t c = 0; c < channels.size(); ++c) {
                out.bits(static_cast<std::uint32_t>(offset_code % 16), 4);
                out.bits(kFastGainCode, 3);
            }
        }
        out.bits(0, 2);  // no delta bit allocation, no skipped bytes
        if (!mantissas) return;
        MantissaWriter writer;
        for (std::size_t c = 0; c < channels.size(); ++c) {
            const ChannelBlock& channel = channels[c];
            for (std::size_t i = 0; i < static_cast<std::size_t>(end_of(c)); ++i)
                writer.add(std::ldexp(channel.coefficients[i], channel.exponents[i]), channel.pointers[i]);
        }
        writer.write(out);
    }

    static void write_exponents(BitWriter& out, const ChannelBlock& channel, int end) {
        const auto& e = channel.exponents;
        const std::size_t step = step_of(channel.strategy);
        out.bits(e[0], 4);
        int before = e[0];
        const std::size_t groups = group_count(end, channel.strategy);
        for (std::size_t g = 0; g < groups; ++g) {
            std::uint32_t word = 0;
            for (std::size_t k = 0; k < 3; ++k) {
                const std::size_t i = std::min<std::size_t>(1 + (g * 3 + k) * step, kCoefficients - 1);
                const int value = 1 + (g * 3 + k) * step < kCoefficients ? e[i] : before;
                word = word * 5 + static_cast<std::uint32_t>(value - before + 2);
                before = value;
            }
            out.bits(word, 7);
        }
    }

    static void finish_checks(ByteVector& frame) {
        // crc1 makes the first five eighths come out as zero, crc2 the rest (6.10.1).
        const std::size_t words = frame.size() / 2;
        const std::size_t first = ((words >> 1) + (words >> 3)) * 2;
        const std::uint32_t rest = crc(ByteSpan(frame).subspan(4, first - 4));
        const std::uint32_t crc1 = multiply(inverse_power((first - 2) * 8), rest);
        frame[2] = static_cast<std::uint8_t>(crc1 >> 8);
        frame[3] = static_cast<std::uint8_t>(crc1);
        const std::uint16_t crc2 = crc(ByteSpan(frame).subspan(first, frame.size() - first - 2));
        frame[frame.size() - 2] = static_cast<std::uint8_t>(crc2 >> 8);
        frame[frame.size() - 1] = static_cast<std::uint8_t>(crc2);
    }

    struct Mask {
        std::array<int, kCoefficients> power{};
        std::array<int, kBands> mask{};
    };

    Ac3Settings settings_;
    int mode_;
    int rate_index_;
    Track track_;
    bool has_low_ = false;
    int full_channels_ = 2;
    int bandwidth_code_ = 60;
    int end_ = 253;
    std::vector<int> order_;
    std::optional<Time> start_;
    std::int64_t frames_ = 0;
    std::vector<float> waiting_;
    std::vector<std::vector<float>> history_;
    std::array<std::vector<ChannelBlock>, kBlocks> blocks_;
    std::array<std::vector<Mask>, kBlocks> masks_;
    Transform transform_;
};

}  // namespace

Result<std::unique_ptr<media::AudioEncoder>> make_ac3_encoder(const Ac3Settings& settings) {
    const auto usage = [](std::string what, const char* remedy) {
        return fail(ErrorKind::usage, std::move(what), "AC-3 audio", remedy);
    };
    const auto mode =
        std::find(bitstream::kAc3Modes.begin() + 1, bitstream::kAc3Modes.end(), settings.speakers & ~kLowFrequency);
    if (mode == bitstream::kAc3Modes.end())
        return usage("AC-3 does not support this channel layout", "use mono to 5.1");
    const auto rate = std::find(kRates.begin(), kRates.end(), settings.bitrate_bps / 1000);
    if (rate == kRates.end() || settings.bitrate_bps % 1000 != 0)
        return usage(fmt::format("AC-3 does not support a bit rate of {} bit/s", settings.bitrate_bps),
                     "use 192 or 448 kbit/s");
    const int channels = media::speaker_count(*mode);
    if (settings.bitrate_bps / channels < 48'000 && settings.bitrate_bps < 640'000)
        return usage("the bit rate is too low for the channels", "use at least 56 kbit/s a channel");
    return std::make_unique<Ac3Encoder>(settings, static_cast<int>(mode - bitstream::kAc3Modes.begin()),
                                        static_cast<int>(rate - kRates.begin()));
}

}  // namespace wavecrest::codec
