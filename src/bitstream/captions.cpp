#include "bitstream/captions.hpp"

#include <algorithm>
#include <utility>

#include "bitstream/mpeg2.hpp"
#include "bitstream/nal.hpp"

namespace wavecrest::bitstream {
namespace {

// Pictures may be decoded so many before they are shown.
constexpr std::size_t kReorder = 32;

std::string utf8(const std::u32string& text) {
    std::string out;
    for (const char32_t c : text) {
        if (c < 0x80) {
            out += static_cast<char>(c);
        } else if (c < 0x800) {
            out += static_cast<char>(0xC0 | c >> 6);
            out += static_cast<char>(0x80 | (c & 0x3F));
        } else {
            out += static_cast<char>(0xE0 | c >> 12);
            out += static_cast<char>(0x80 | (c >> 6 & 0x3F));
            out += static_cast<char>(0x80 | (c & 0x3F));
        }
    }
    return out;
}

// Letters of CEA-608, clause 4 and annex H; all others are those of ASCII.
char32_t basic_letter(std::uint8_t code) {
    switch (code) {
        case 0x2A:
            return U'á';
        case 0x5C:
            return U'é';
        case 0x5E:
            return U'í';
        case 0x5F:
            return U'ó';
        case 0x60:
            return U'ú';
        case 0x7B:
            return U'ç';
        case 0x7C:
            return U'÷';
        case 0x7D:
            return U'Ñ';
        case 0x7E:
            return U'ñ';
        case 0x7F:
            return U'█';
        default:
            return code;
    }
}
constexpr char32_t kSpecial[] = U"®°½¿™¢£♪à èâêîôû";
constexpr char32_t kExtended[2][33] = {U"ÁÉÓÚÜü‘¡*’—©℠•“”ÀÂÇÈÊËëÎÏïÔÙùÛ«»", U"ÃãÍÌìÒòÕõ{}\\^_|~ÄäÖöß¥¤│ÅåØø┌┐└┘"};

// cc_data of A/53: pairs behind the counter.
void take_cc_data(ByteSpan data, std::vector<CaptionPair>& pairs) {
    if (data.size() < 2 || (data[0] & 0x40) == 0) return;
    const std::size_t count = data[0] & 0x1F;
    for (std::size_t i = 0; i < count && 2 + i * 3 + 3 <= data.size(); ++i) {
        const ByteSpan one = data.subspan(2 + i * 3, 3);
        if ((one[0] & 4) != 0) pairs.push_back({one[0] & 3, one[1], one[2]});
    }
}

void take_user_data(ByteSpan data, std::vector<CaptionPair>& pairs) {
    if (data.size() > 6 && data[0] == 'G' && data[1] == 'A' && data[2] == '9' && data[3] == '4' && data[4] == 3) {
        take_cc_data(data.subspan(5), pairs);
    } else if (data.size() > 5 && data[0] == 'C' && data[1] == 'C' && data[2] == 1) {
        // DVD-Video: a count, then pairs of fields, each marked 0xFF (field 1) or 0xFE.
        for (std::size_t at = 5; at + 3 <= data.size(); at += 3) {
            if ((data[at] & 0xFE) != 0xFE) break;
            pairs.push_back({data[at] == 0xFF ? 0 : 1, data[at + 1], data[at + 2]});
        }
    }
}

}  // namespace

std::vector<CaptionPair> caption_pairs(Codec codec, ByteSpan unit) {
    std::vector<CaptionPair> pairs;
    if (codec == Codec::mpeg2 || codec == Codec::mpeg1) {
        for (std::size_t at = mpeg2::find_start_code(unit, 0); at + 4 < unit.size();) {
            const std::uint8_t code = unit[at + 3];
            if (code >= mpeg2::kFirstSlice && code <= mpeg2::kLastSlice) break;
            const std::size_t next = mpeg2::find_start_code(unit, at + 4);
            if (code == mpeg2::kUserData) take_user_data(unit.subspan(at + 4, next - at - 4), pairs);
            at = next;
        }
        return pairs;
    }
    if (codec != Codec::h264 && codec != Codec::h265) return pairs;
    for (const ByteSpan one : nal::split_lengths(unit)) {
        for (nal::Messages messages(codec, one); const auto message = messages.next();) {
            const ByteSpan body = message->payload;
            // Registered by ITU-T T.35: country 0xB5, provider 0x0031.
            if (message->type == 4 && body.size() > 8 && body[0] == 0xB5 && body[1] == 0 && body[2] == 0x31)
                take_user_data(body.subspan(3), pairs);
        }
    }
    return pairs;
}

// ---- CEA-608

void LineCaptions::changed(Time time) {
    std::u32string text;
    for (const std::u32string& row : shown_) {
        std::u32string trimmed = row;
        while (!trimmed.empty() && trimmed.back() == U' ') trimmed.pop_back();
        trimmed.erase(0, std::min(trimmed.find_first_not_of(U' '), trimmed.size()));
        if (trimmed.empty()) continue;
        if (!text.empty()) text += U'\n';
        text += trimmed;
    }
    if (!text.empty() && since_ && time > *since_) cues_.push_back({*since_, time, utf8(text)});
    since_.reset();
}

void LineCaptions::shown_now(Time time) {
    if (!since_) since_ = time;
}

void LineCaptions::put(Time time, char32_t letter) {
    if (mode_ == Mode::none) return;
    std::u32string& row = (mode_ == Mode::pop_on ? hidden_ : shown_)[static_cast<std::size_t>(row_)];
    if (row.size() < 32) row += letter;
    if (mode_ != Mode::pop_on) shown_now(time);
}

void LineCaptions::control(Time time, std::uint8_t code) {
    Screen& screen = mode_ == Mode::pop_on ? hidden_ : shown_;
    switch (code) {
        case 0x20:  // resume caption loading
            mode_ = Mode::pop_on;
            break;
        case 0x21: {  // backspace
            std::u32string& row = screen[static_cast<std::size_t>(row_)];
            if (!row.empty()) row.pop_back();
            break;
        }
        case 0x24:  // delete to the end of the row
            screen[static_cast<std::size_t>(row_)].clear();
            break;
        case 0x25:
        case 0x26:
        case 0x27:  // roll-up captions of 2, 3 or 4 rows
            if (mode_ != Mode::roll_up) {
                changed(time);
                shown_ = {};
                hidden_ = {};
                row_ = 14;
            }
            mode_ = Mode::roll_up;
            rows_ = code - 0x23;
            break;
        case 0x29:  // resume direct captioning
            mode_ = Mode::paint_on;
            break;
        case 0x2C:  // erase displayed memory
            changed(time);
            shown_ = {};
            break;
        case 0x2D:  // carriage return
            if (mode_ != Mode::roll_up) break;
            changed(time);
            for (int r = std::max(0, row_ - rows_ + 1); r < row_; ++r)
                shown_[static_cast<std::size_t>(r)] = shown_[static_cast<std::size_t>(r) + 1];
            for (int r = 0; r <= row_ - rows_; ++r) shown_[static_cast<std::size_t>(r)].clear();
            shown_[static_cast<std::size_t>(row_)].clear();
            shown_now(time);
            break;
        case 0x2E:  // erase non-displayed memory
            hidden_ = {};
            break;
        case 0x2F:  // end of caption: the two memories change places
            changed(time);
            std::swap(shown_, hidden_);
            mode_ = Mode::pop_on;
            shown_now(time);
            break;
        default:
            break;
    }
}

void LineCaptions::push(Time time, std::uint8_t first, std::uint8_t second) {
    first &= 0x7F;  // parity
    second &= 0x7F;
    if (first == 0 && second == 0) return;
    if (first >= 0x10 && first <= 0x1F) {
        // Control codes are sent twice.
        if (first == last_first_ && second == last_second_) {
            last_first_ = last_second_ = 0;
            return;
        }
        last_first_ = first;
        last_second_ = second;
        other_channel_ = (first & 8) != 0;
        if (other_channel_) return;
        if (second >= 0x40) {
            // A preamble: the row, and where in it the text begins.
            constexpr int kRows[8][2] = {{10, 10}, {0, 1}, {2, 3}, {11, 12}, {13, 14}, {4, 5}, {6, 7}, {8, 9}};
            const int row = kRows[first & 7][second >> 5 & 1];
            if (mode_ == Mode::roll_up) {
                if (row != row_) {
                    // The rows move with their base.
                    Screen moved{};
                    for (int r = 0; r < rows_; ++r) {
                        if (row - r >= 0 && row_ - r >= 0)
                            moved[static_cast<std::size_t>(row - r)] = shown_[static_cast<std::size_t>(row_ - r)];
                    }
                    shown_ = moved;
                }
            } else if (mode_ == Mode::pop_on) {
                hidden_[static_cast<std::size_t>(row)].clear();
            }
            row_ = row;
        } else if (first == 0x14) {
            control(time, second);
        } else if (first == 0x11 && second >= 0x30) {
            put(time, kSpecial[second - 0x30]);
        } else if (first == 0x11) {
            put(time, U' ');  // a change of style takes a column
        } else if (first == 0x12 || first == 0x13) {
            // Stands for the letter sent before it, for decoders that don't know these.
            std::u32string& row = (mode_ == Mode::pop_on ? hidden_ : shown_)[static_cast<std::size_t>(row_)];
            if (!row.empty()) row.pop_back();
            if (second >= 0x20) put(time, kExtended[first - 0x12][second - 0x20]);
        }
        return;
    }
    last_first_ = last_second_ = 0;
    if (other_channel_ || first < 0x20) return;
    put(time, basic_letter(first));
    if (second >= 0x20) put(time, basic_letter(second));
}

void LineCaptions::finish(Time end) {
    changed(end);
    shown_ = {};
}

// ---- CEA-708

std::u32string ServiceCaptions::visible_text() const {
    std::u32string text;
    for (const auto& [number, window] : windows_) {
        if (!window.visible) continue;
        for (const std::u32string& row : window.text) {
            if (row.find_first_not_of(U' ') == std::u32string::npos) continue;
            if (!text.empty()) text += U'\n';
            text += row;
        }
    }
    return text;
}

void ServiceCaptions::changed(Time time) {
    std::u32string now = visible_text();
    if (now == shown_) return;
    if (!shown_.empty() && time > since_) cues_.push_back({since_, time, utf8(shown_)});
    shown_ = std::move(now);
    since_ = time;
}

void ServiceCaptions::push(Time time, bool starts, std::uint8_t first, std::uint8_t second) {
    if (starts) {
        packet(time);
        packet_.clear();
    } else if (packet_.empty()) {
        return;
    }
    packet_.push_back(first);
    packet_.push_back(second);
    const std::size_t code = packet_[0] & 0x3F, size = code == 0 ? 128 : code * 2;
    if (packet_.size() >= size) {
        packet(time);
        packet_.clear();
    }
}

// A caption channel packet: service blocks one behind the other (CEA-708, 6).
void ServiceCaptions::packet(Time time) {
    std::size_t at = 1;
    while (at < packet_.size()) {
        const int number = packet_[at] >> 5;
        const std::size_t size = packet_[at] & 0x1F;
        ++at;
        if (number == 0 || size > packet_.size() - at) break;
        if (number == 1) service(time, ByteSpan(packet_).subspan(at, size));
        at += size;
    }
}

void ServiceCaptions::service(Time time, ByteSpan block) {
    const auto current = [&]() -> Window& {
        Window& window = windows_[current_];
        if (window.text.empty()) window.text.emplace_back();
        return window;
    };
    std::size_t at = 0;
    const auto argument = [&] { return at < block.size() ? block[at++] : std::uint8_t{0}; };
    const auto each = [&](std::uint8_t map, auto act) {
        for (int i = 0; i < 8; ++i) {
            if ((map >> i & 1) != 0 && windows_.contains(i)) act(windows_[i]);
        }
    };
    while (at < block.size()) {
        const std::uint8_t code = block[at++];
        if (code >= 0x20 && code <= 0x7F) {
            current().text.back() += code == 0x7F ? U'♪' : char32_t{code};
        } else if (code >= 0xA0) {
            current().text.back() += char32_t{code};  // the right half of Latin-1
        } else if (code == 0x08) {
            if (!current().text.back().empty()) current().text.back().pop_back();
        } else if (code == 0x0C) {
            current().text.assign(1, {});
        } else if (code == 0x0D) {
            Window& window = current();
            if (window.visible) changed(time);
            window.text.emplace_back();
            while (window.text.size() > window.rows) window.text.erase(window.text.begin());
        } else if (code == 0x10) {
            at += 1;  // an extended set: left out
        } else if (code >= 0x80 && code <= 0x87) {
            current_ = code - 0x80;
        } else if (code == 0x88) {
            each(argument(), [](Window& w) { w.text.assign(1, {}); });
        } else if (code == 0x89) {
            each(argument(), [](Window& w) { w.visible = true; });
        } else if (code == 0x8A) {
            each(argument(), [](Window& w) { w.visible = false; });
        } else if (code == 0x8B) {
            each(argument(), [](Window& w) { w.visible = !w.visible; });
        } else if (code == 0x8C) {
            const std::uint8_t map = argument();
            for (int i = 0; i < 8; ++i) {
                if ((map >> i & 1) != 0) windows_.erase(i);
            }
        } else if (code == 0x8D) {
            at += 1;
        } else if (code == 0x8F) {
            windows_.clear();
        } else if (code == 0x90) {
            at += 2;
        } else if (code == 0x91) {
            at += 3;
        } else if (code == 0x92) {
            const std::size_t row = argument() & 0x0F;
            at += 1;
            Window& window = current();
            // A new row is what matters of a pen location.
            if (!window.text.back().empty() && row > 0) window.text.emplace_back();
        } else if (code == 0x97) {
            at += 4;
        } else if (code >= 0x98 && code <= 0x9F) {
            current_ = code - 0x98;
            Window& window = windows_[current_];
            window.visible = (argument() & 0x20) != 0;
            at += 2;
            window.rows = static_cast<std::size_t>(argument() & 0x0F) + 1;
            at += 2;
            if (window.text.empty()) window.text.emplace_back();
        } else if (code >= 0x11 && code <= 0x17) {
            at += 1;
        } else if (code >= 0x18 && code <= 0x1F) {
            at += 2;
        }
    }
    changed(time);
}

void ServiceCaptions::finish(Time end) {
    windows_.clear();
    changed(end);
}

// ----

void CaptionReader::feed(Time time, const std::vector<CaptionPair>& pairs) {
    for (const CaptionPair& pair : pairs) {
        if (pair.type == 0) line_.push(time, pair.first, pair.second);
        if (pair.type >= 2) service_.push(time, pair.type == 3, pair.first, pair.second);
    }
}

void CaptionReader::push(const Packet& packet) {
    end_ = std::max(end_, packet.pts + packet.duration);
    auto& pairs = waiting_[packet.pts];
    const auto found = caption_pairs(codec_, packet.data.view());
    pairs.insert(pairs.end(), found.begin(), found.end());
    while (waiting_.size() > kReorder) {
        feed(waiting_.begin()->first, waiting_.begin()->second);
        waiting_.erase(waiting_.begin());
    }
}

std::vector<CaptionCue> CaptionReader::finish() {
    for (const auto& [time, pairs] : waiting_) feed(time, pairs);
    waiting_.clear();
    line_.finish(end_);
    service_.finish(end_);
    return !line_.cues().empty() ? std::move(line_.cues()) : std::move(service_.cues());
}

}  // namespace wavecrest::bitstream
