#include "transcode/pieces.hpp"

#include <fcntl.h>
#include <fmt/ranges.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zlib.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cerrno>
#include <cmath>
#include <cstring>
#include <optional>
#include <utility>
#include <vector>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"

namespace wavecrest::transcode {
namespace {

// A piece as it lies on disk, numbers with their highest byte first:
//
//   magic (8), size of the codec configuration (4), that;
//   of each packet its size (4), pts, dts and duration (8 each, flicks), 1 for a keyframe (1), its bytes;
//   kEnd (4), number of pictures (4), a digest of each (8), the decoder buffer's level (8, a double);
//   CRC-32 of all before (4).
constexpr std::string_view kMagic = "WCPIECE1";
constexpr std::uint32_t kEnd = 0xFFFFFFFF;
constexpr std::size_t kPacketHeader = 4 + 3 * 8 + 1, kCrc = 4;

constexpr const char* kKeyFile = "key";
constexpr const char* kFinishing = "finishing";
constexpr const char* kPiece = ".piece";
constexpr const char *kPassesFile = "passes", *kPass = "pass-";

bool is_unfinished(const base::Path& name) {
    return name.string().front() == '.' && name.extension() == ".part";  // base/atomic_file.hpp
}
// Nothing else that somebody put into the folder is touched.
bool is_ours(const base::Path& name) {
    return name.extension() == kPiece || name == kKeyFile || name == kFinishing || name == kPassesFile ||
           name.string().starts_with(kPass) || is_unfinished(name);
}
std::vector<base::Path> entries_of(const base::Path& folder) {
    std::vector<base::Path> entries;
    std::error_code error;
    for (auto entry = std::filesystem::directory_iterator(folder, error);
         !error && entry != std::filesystem::directory_iterator(); entry.increment(error))
        entries.push_back(entry->path());
    return entries;
}

// What the first piece's buffer holds at the start, in parts of the whole; encoders assume the same.
constexpr double kFirstLevel = 0.9;
// Later pieces begin with what is left; an encoder can't work with less.
constexpr double kLeastLevel = 0.1;

// Enough of a picture to know it again: its time, and every sixteenth row of its luma.
std::uint64_t digest_of(const Picture& picture) {
    constexpr std::uint64_t kPrime = 0x100000001B3, kBasis = 0xCBF29CE484222325;  // FNV-1a's, on words
    constexpr int kRows = 16;
    std::uint64_t digest = kBasis;
    const auto add = [&](std::uint64_t word) { digest = std::rotl((digest ^ word) * kPrime, 29); };
    add(static_cast<std::uint64_t>(picture.pts.count()));
    add(static_cast<std::uint64_t>(picture.duration.count()));
    for (int y = 0; y < picture.height; y += kRows) {
        const auto* row = picture.row<std::uint8_t>(0, y);
        const std::size_t bytes = picture.row_bytes(0);
        for (std::size_t x = 0; x + 8 <= bytes; x += 8) {
            std::uint64_t word = 0;
            std::memcpy(&word, row + x, sizeof word);
            add(word);
        }
    }
    return digest;
}

// The decoder's buffer of a stream with a peak rate: filled at that rate, emptied by each picture.
class DecoderBuffer {
  public:
    explicit DecoderBuffer(const codec::VideoEncoderSettings& settings)
        : bits_per_second_(static_cast<double>(settings.peak_bps)),
          size_(bits_per_second_ * base::to_seconds(settings.buffer)),
          level_(kFirstLevel * size_) {}
    void take(const Packet& packet) {
        level_ -= 8 * static_cast<double>(packet.data.size());
        level_ = std::clamp(level_ + bits_per_second_ * base::to_seconds(packet.duration), 0.0, size_);
    }
    double level() const { return size_ > 0 ? level_ / size_ : kFirstLevel; }
    void set_level(double level) { level_ = level * size_; }

  private:
    double bits_per_second_, size_, level_;
};

class PieceWriter {
  public:
    static Result<PieceWriter> create(PieceFolder& folder, const base::Path& path, const Bytes& config) {
        WAVECREST_TRY(folder.make());
        WAVECREST_TRY_ASSIGN(file, base::AtomicFile::create(path, base::AtomicFile::IfExists::replace));
        PieceWriter self(std::move(file));
        self.buffer_.text(kMagic);
        self.buffer_.u32(config.size());
        self.buffer_.raw(config.view());
        return self;
    }
    Status add(const Packet& packet) {
        buffer_.u32(packet.data.size());
        for (const Time time : {packet.pts, packet.dts, packet.duration})
            buffer_.u64(static_cast<std::uint64_t>(time.count()));
        buffer_.u8(packet.key ? 1 : 0);
        buffer_.raw(packet.data.view());
        constexpr std::size_t kBlock = 1 << 20;
        return buffer_.size() < kBlock ? Status{} : put();
    }
    Status finish(const std::vector<std::uint64_t>& pictures, double level) {
        buffer_.u32(kEnd);
        buffer_.u32(pictures.size());
        for (const std::uint64_t digest : pictures) buffer_.u64(digest);
        buffer_.u64(std::bit_cast<std::uint64_t>(level));
        WAVECREST_TRY(put());
        buffer_.u32(crc_);
        WAVECREST_TRY(put());
        return file_.commit();
    }

  private:
    explicit PieceWriter(base::AtomicFile file) : file_(std::move(file)) {}
    Status put() {
        const ByteVector bytes = buffer_.release();
        buffer_ = {};
        crc_ = ::crc32(crc_, bytes.data(), static_cast<uInt>(bytes.size()));
        return file_.write(bytes);
    }

    base::AtomicFile file_;
    base::ByteWriter buffer_;
    uLong crc_ = 0;
};

// A piece that was kept, checked as a whole and then read packet by packet.
class PieceReader {
  public:
    // Nothing for what is no whole piece of this codec configuration.
    static std::optional<PieceReader> open(const base::Path& path, const Bytes& config) {
        auto file = base::FileSource::open(path);
        if (!file) return std::nullopt;
        PieceReader self(std::move(*file));
        if (!self.check(config)) return std::nullopt;
        return self;
    }
    std::size_t pictures() const { return pictures_.size(); }
    std::uint64_t picture(std::size_t number) const { return pictures_[number]; }
    double level() const { return level_; }

    // The next packet without its bytes, which take() reads; nothing at the end.
    Result<std::optional<Packet>> peek() {
        if (next_) return next_;
        if (position_ >= end_) return std::optional<Packet>{};
        WAVECREST_TRY_ASSIGN(head, base::read_exactly(file_, position_, kPacketHeader));
        base::ByteReader in(head);
        size_ = in.u32();
        Packet packet;
        packet.pts = Time(static_cast<std::int64_t>(in.u64()));
        packet.dts = Time(static_cast<std::int64_t>(in.u64()));
        packet.duration = Time(static_cast<std::int64_t>(in.u64()));
        packet.key = in.u8() != 0;
        next_ = std::move(packet);
        return next_;
    }
    Result<Packet> take() {
        WAVECREST_TRY_ASSIGN(data, base::read_exactly(file_, position_ + kPacketHeader, size_));
        Packet packet = std::move(*next_);
        next_.reset();
        packet.data = Bytes(std::move(data));
        position_ += kPacketHeader + size_;
        return packet;
    }

  private:
    explicit PieceReader(base::FileSource file) : file_(std::move(file)) {}

    bool check(const Bytes& config) {
        if (!checksum_holds()) return false;
        const auto head = base::read_exactly(file_, 0, kMagic.size() + 4);
        if (!head) return false;
        base::ByteReader in(*head);
        if (in.text(kMagic.size()) != kMagic || in.u32() != config.size()) return false;
        const auto told = base::read_exactly(file_, kMagic.size() + 4, config.size());
        if (!told || !std::equal(told->begin(), told->end(), config.view().begin(), config.view().end())) return false;
        const std::uint64_t begin = kMagic.size() + 4 + config.size();
        // From packet to packet, to where the pictures are told.
        position_ = begin;
        while (true) {
            const auto size = base::read_exactly(file_, position_, 4);
            if (!size) return false;
            const std::uint32_t bytes = base::ByteReader(*size).u32();
            if (bytes == kEnd) break;
            position_ += kPacketHeader + bytes;
        }
        end_ = position_;
        if (end_ + 4 + kCrc > file_.size()) return false;
        const auto rest = base::read_exactly(file_, end_ + 4, static_cast<std::size_t>(file_.size() - kCrc - end_ - 4));
        if (!rest) return false;
        base::ByteReader trailer(*rest);
        const std::uint32_t count = trailer.u32();
        if (count == 0 || trailer.remaining() != (std::size_t{count} + 1) * 8) return false;
        for (std::uint32_t i = 0; i < count; ++i) pictures_.push_back(trailer.u64());
        level_ = std::bit_cast<double>(trailer.u64());
        position_ = begin;
        return level_ >= 0 && level_ <= 1;
    }
    bool checksum_holds() {
        if (file_.size() < kMagic.size() + 4 + kCrc) return false;
        ByteVector block(std::size_t{1} << 20);
        uLong crc = 0;
        const std::uint64_t all = file_.size() - kCrc;
        for (std::uint64_t at = 0; at < all;) {
            const auto want = static_cast<std::size_t>(std::min<std::uint64_t>(block.size(), all - at));
            const auto got = file_.read_at(at, std::span(block).first(want));
            if (!got || *got == 0) return false;
            crc = ::crc32(crc, block.data(), static_cast<uInt>(*got));
            at += *got;
        }
        const auto told = base::read_exactly(file_, all, kCrc);
        return told && base::ByteReader(*told).u32() == crc;
    }

    base::FileSource file_;
    std::uint64_t position_ = 0, end_ = 0;
    std::uint32_t size_ = 0;  // of the packet that was looked at
    std::optional<Packet> next_;
    std::vector<std::uint64_t> pictures_;
    double level_ = 0;
};

class PiecewiseEncoder : public media::VideoEncoder {
  public:
    PiecewiseEncoder(const codec::VideoEncoderSettings& settings, const Pieces& pieces,
                     std::unique_ptr<media::VideoEncoder> first)
        : settings_(settings),
          pieces_(pieces),
          pictures_of_piece_(pictures_of_piece(settings, pieces.length)),
          track_(first->track()),
          encoder_(std::move(first)),
          buffer_(settings) {}

    const Track& track() const override { return track_; }

    Status encode(const Picture& picture, std::vector<Packet>& out) override {
        if (pictures_ == 0) WAVECREST_TRY(begin());
        const std::uint64_t digest = pieces_.folder ? digest_of(picture) : 0;
        if (kept_) {
            if (static_cast<std::size_t>(pictures_) >= kept_->pictures() ||
                kept_->picture(static_cast<std::size_t>(pictures_)) != digest)
                return other_pictures();
            WAVECREST_TRY(give_kept(picture.pts, out));
        } else {
            WAVECREST_TRY(encoder_->encode(picture, coded_));
            WAVECREST_TRY(give_coded(out));
            if (pieces_.folder) digests_.push_back(digest);
        }
        return ++pictures_ == pictures_of_piece_ ? end(out) : Status{};
    }
    Status flush(std::vector<Packet>& out) override { return pictures_ > 0 ? end(out) : Status{}; }

  private:
    Status begin() {
        if (pieces_.folder) {
            const base::Path path = pieces_.folder->piece(pieces_.encode, number_);
            kept_ = PieceReader::open(path, track_.codec_config);
            if (kept_) return {};
        }
        if (!encoder_) {
            codec::VideoEncoderSettings settings = settings_;
            if (number_ > 0) settings.buffer_level = std::max(buffer_.level(), kLeastLevel);
            WAVECREST_TRY_ASSIGN(encoder, codec::make_video_encoder(settings));
            encoder_ = std::move(encoder);
        }
        if (!pieces_.folder) return {};
        WAVECREST_TRY_ASSIGN(
            writer,
            PieceWriter::create(*pieces_.folder, pieces_.folder->piece(pieces_.encode, number_), track_.codec_config));
        writer_.emplace(std::move(writer));
        return {};
    }

    Status give_coded(std::vector<Packet>& out) {
        for (Packet& packet : coded_) {
            // Where frames come at times of their own, a new encoder's first decoding times may lie before those of the
            // last piece's end.
            const Time kTick = base::from_ticks(1, 90000);
            if (last_dts_ && packet.dts <= *last_dts_) packet.dts = *last_dts_ + kTick;
            if (writer_) WAVECREST_TRY(writer_->add(packet));
            give(std::move(packet), out);
        }
        coded_.clear();
        return {};
    }
    // Packets of pictures that have come, so that whoever compares both has both.
    Status give_kept(Time up_to, std::vector<Packet>& out) {
        while (true) {
            WAVECREST_TRY_ASSIGN(next, kept_->peek());
            if (!next || next->pts > up_to) return {};
            WAVECREST_TRY_ASSIGN(packet, kept_->take());
            give(std::move(packet), out);
        }
    }
    void give(Packet packet, std::vector<Packet>& out) {
        last_dts_ = packet.dts;
        buffer_.take(packet);
        out.push_back(std::move(packet));
    }

    Status end(std::vector<Packet>& out) {
        if (kept_) {
            if (static_cast<std::size_t>(pictures_) != kept_->pictures()) return other_pictures();
            WAVECREST_TRY(give_kept(Time::max(), out));
            buffer_.set_level(kept_->level());
            kept_.reset();
        } else {
            WAVECREST_TRY(encoder_->flush(coded_));
            WAVECREST_TRY(give_coded(out));
            encoder_.reset();
            if (writer_) WAVECREST_TRY(writer_->finish(digests_, buffer_.level()));
            writer_.reset();
            digests_.clear();
        }
        ++number_;
        pictures_ = 0;
        return {};
    }

    tl::unexpected<Error> other_pictures() {
        kept_.reset();
        pieces_.folder->remove();
        return fail(ErrorKind::machine, "what was kept of an earlier run was made of other frames",
                    pieces_.folder->path().string(), "it was removed: run the same command again");
    }

    const codec::VideoEncoderSettings settings_;
    const Pieces pieces_;
    const std::int64_t pictures_of_piece_;
    const Track track_;
    std::unique_ptr<media::VideoEncoder> encoder_;  // of this piece, or the next
    DecoderBuffer buffer_;
    std::optional<PieceReader> kept_;    // where this piece was kept
    std::optional<PieceWriter> writer_;  // where it is to be
    std::vector<std::uint64_t> digests_;
    std::vector<Packet> coded_;
    std::optional<Time> last_dts_;
    std::int64_t pictures_ = 0;  // of this piece
    int number_ = 0;             // of this piece
};

}  // namespace

base::Path PieceFolder::place(const base::Path& target) {
    // Of a long name the beginning, as file systems take it.
    constexpr std::size_t kLongest = 240;
    return target.parent_path() / ("." + target.filename().string().substr(0, kLongest) + ".pieces");
}

Result<std::shared_ptr<PieceFolder>> PieceFolder::open(const base::Path& target, const std::string& key) {
    std::shared_ptr<PieceFolder> self(new PieceFolder(place(target), key));
    std::error_code error;
    if (!std::filesystem::is_directory(self->path_, error)) return self;
    WAVECREST_TRY(self->lock());
    const auto told = base::read_text_file(self->path_ / kKeyFile);
    if (!told || *told != key) {
        self->remove();
        return self;
    }
    // What was being written when the program was killed.
    for (const base::Path& entry : entries_of(self->path_)) {
        std::error_code ignored;
        if (is_unfinished(entry.filename())) std::filesystem::remove(entry, ignored);
    }
    return self;
}

PieceFolder::~PieceFolder() {
    if (handle_ >= 0) ::close(handle_);
}

Status PieceFolder::lock() {
    handle_ = ::open(path_.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW);
    if (handle_ < 0)
        return fail(ErrorKind::machine, "the folder can't be opened: " + base::system_reason(errno), path_.string(),
                    "remove it, or change its permissions");
    // (Not every file system has locks.)
    if (::flock(handle_, LOCK_EX | LOCK_NB) != 0 && errno == EWOULDBLOCK) {
        ::close(std::exchange(handle_, -1));
        return fail(ErrorKind::machine, "another program is converting to this file", path_.string(),
                    "wait until it has ended (wavecrest job list), or give another --name or --into");
    }
    return {};
}

Status PieceFolder::make() {
    const base::MutexLock making(making_);
    if (handle_ >= 0) return {};
    std::error_code error;
    std::filesystem::create_directories(path_, error);
    if (error)
        return fail(ErrorKind::machine, "the folder can't be made: " + error.message(), path_.string(),
                    "choose a folder you may write to");
    WAVECREST_TRY(lock());
    const base::Path parent = path_.has_parent_path() ? path_.parent_path() : base::Path(".");
    if (const int above = ::open(parent.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC); above >= 0) {
        ::fsync(above);
        ::close(above);
    }
    return base::write_file(path_ / kKeyFile, base::as_bytes(key_), base::AtomicFile::IfExists::replace);
}

int PieceFolder::count(std::size_t encode) const {
    std::error_code error;
    int number = 0;
    while (std::filesystem::exists(piece(encode, number), error)) ++number;
    return number;
}

base::Path PieceFolder::piece(std::size_t encode, int number) const {
    return path_ / fmt::format("video-{}-{:05}{}", encode + 1, number + 1, kPiece);
}

base::Path PieceFolder::notes(std::size_t encode) const {
    return path_ / fmt::format("{}{}", kPass, encode + 1);
}

Status PieceFolder::keep_passes(const std::string& text) {
    return base::write_file(path_ / kPassesFile, base::as_bytes(text), base::AtomicFile::IfExists::replace);
}

std::optional<std::string> PieceFolder::passes() const {
    if (handle_ < 0) return std::nullopt;
    auto text = base::read_text_file(path_ / kPassesFile);
    return text ? std::optional(std::move(*text)) : std::nullopt;
}

void PieceFolder::remove() {
    std::error_code error;
    for (const base::Path& entry : entries_of(path_)) {
        if (is_ours(entry.filename())) std::filesystem::remove_all(entry, error);
    }
    std::filesystem::remove(path_, error);  // unless something else is in it
    if (handle_ >= 0) ::close(std::exchange(handle_, -1));
}

Status PieceFolder::begin_finishing(const std::vector<std::uint64_t>& inodes) {
    if (handle_ < 0) return {};  // nothing is kept
    // Those that a run before this one finished stay among them.
    std::string text = base::read_text_file(path_ / kFinishing).value_or("");
    text += fmt::format("{}\n", fmt::join(inodes, "\n"));
    return base::write_file(path_ / kFinishing, base::as_bytes(text), base::AtomicFile::IfExists::replace);
}

bool PieceFolder::finished_in(const base::Path& folder, const base::Path& file) {
    const auto told = base::read_text_file(folder / kFinishing);
    struct stat info {};
    if (!told || ::lstat(file.c_str(), &info) != 0) return false;
    return ("\n" + *told).find(fmt::format("\n{}\n", info.st_ino)) != std::string::npos;
}

std::int64_t pictures_of_piece(const codec::VideoEncoderSettings& settings, Time length) {
    const double rate = settings.frame_rate.value();
    const auto pictures = std::max<std::int64_t>(1, std::llround(base::to_seconds(length) * rate));
    if (!settings.fixed_keyframes || settings.keyframe_distance.count() <= 0) return pictures;
    const auto group = std::max<std::int64_t>(1, std::llround(base::to_seconds(settings.keyframe_distance) * rate));
    return std::max<std::int64_t>(1, pictures / group) * group;
}

Result<std::unique_ptr<media::VideoEncoder>> make_piecewise_encoder(const codec::VideoEncoderSettings& settings,
                                                                    const Pieces& pieces) {
    WAVECREST_TRY_ASSIGN(first, codec::make_video_encoder(settings));
    return std::make_unique<PiecewiseEncoder>(settings, pieces, std::move(first));
}

std::string key_of(const codec::VideoEncoderSettings& s) {
    std::string key = fmt::format(
        "{} {}x{} aspect {}:{} rate {}/{} {} depth {} colour {} {} {} {} profile '{}' level '{}' effort {} quality {} "
        "mean {} peak {} buffer {} keyframes {} {} interlaced {} threads {}",
        media::short_name(s.codec), s.width, s.height, s.pixel_aspect.num, s.pixel_aspect.den, s.frame_rate.num,
        s.frame_rate.den, s.variable_rate, s.bit_depth, s.colour.primaries, s.colour.transfer, s.colour.matrix,
        s.colour.full_range, s.profile, s.level, s.effort, s.quality, s.mean_bps, s.peak_bps, s.buffer.count(),
        s.keyframe_distance.count(), s.fixed_keyframes, s.interlaced, s.threads);
    if (const auto& d = s.mastering_display)
        key += fmt::format(" display {} {} {} {} {} {}", fmt::join(d->primaries_x, ","), fmt::join(d->primaries_y, ","),
                           d->white_x, d->white_y, d->max_luminance, d->min_luminance);
    if (const auto& c = s.content_light) key += fmt::format(" light {} {}", c->max_content, c->max_frame_average);
    return key;
}

}  // namespace wavecrest::transcode
