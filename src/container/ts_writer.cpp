#include "base/atomic_file.hpp"
#include "container/ts_mux.hpp"
#include "container/writer.hpp"

namespace wavecrest::container {
namespace {

// The multiplexer's packets one behind the other; when they are due plays no part in a file.
class TransportWriter : public PacketSink {
  public:
    TransportWriter(std::unique_ptr<base::ByteSink> file, std::vector<Track> tracks, const WriterSettings& settings)
        : file_(std::move(file)),
          duration_(settings.duration),
          mux_(std::move(tracks), {settings.title}, [this](const MuxedPacket& packet) { return take(packet); }) {}

    Status write(const Packet& packet) override {
        if (duration_.count() > 0 && packet.pts >= duration_) return {};
        return mux_.write(packet);
    }
    Status finish() override {
        WAVECREST_TRY(mux_.finish());
        WAVECREST_TRY(file_->write(waiting_));
        return file_->commit();
    }

  private:
    Status take(const MuxedPacket& packet) {
        constexpr std::size_t kPiece = 1 << 20;
        waiting_.insert(waiting_.end(), packet.bytes.begin(), packet.bytes.end());
        if (waiting_.size() < kPiece) return {};
        WAVECREST_TRY(file_->write(waiting_));
        waiting_.clear();
        return {};
    }

    std::unique_ptr<base::ByteSink> file_;
    Time duration_;
    ByteVector waiting_;
    TransportMux mux_;
};

}  // namespace

Result<std::unique_ptr<PacketSink>> create_mpeg_ts(std::unique_ptr<base::ByteSink> file, std::vector<Track> tracks,
                                                   WriterSettings settings) {
    return std::unique_ptr<PacketSink>(std::make_unique<TransportWriter>(std::move(file), std::move(tracks), settings));
}

}  // namespace wavecrest::container
