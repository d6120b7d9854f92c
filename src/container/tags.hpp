// Tags of audio files in the forms that formats have for them. All text is UTF-8; reading leaves out what is damaged.
#pragma once

#include "base/bytes.hpp"
#include "media/tags.hpp"

namespace wavecrest::container {

// Vorbis comments (xiph.org, "Ogg Vorbis I format specification: comment field and header specification"), which FLAC
// and Ogg have: a vendor, then fields NAME=value.
media::Tags parse_vorbis_comment(ByteSpan body);
ByteVector make_vorbis_comment(const media::Tags& tags);

// An ID3v2 tag with its header, of version 2.3 or 2.4 (id3.org); written as 2.4. Empty tags give no bytes.
media::Tags parse_id3(ByteSpan tag);
ByteVector make_id3(const media::Tags& tags);

}  // namespace wavecrest::container
