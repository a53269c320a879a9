#include "source/arrow/stream.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/diagnostics.h"
#include "base/failure.h"

namespace juniper::source::arrow {

namespace {

using namespace arrow_ipc;

constexpr std::string_view file_magic = "ARROW1";
constexpr std::size_t magic_bytes = 8;  // with what fills them up
constexpr std::uint32_t continues = 0xFFFF'FFFF;
constexpr std::uint64_t most_head_bytes = std::uint64_t{1} << 28;

ByteSource opened(const std::filesystem::path& path) {
  auto bytes = ByteSource::open(path);
  if (!bytes) throw base::Failure(bytes.error());
  return std::move(*bytes);
}

}  // namespace

Stream::Stream(const std::filesystem::path& path) : bytes_(opened(path)) {
  ahead_ = read(magic_bytes);
  if (ahead_.starts_with(file_magic)) {
    read_footer(path);
    return;
  }
  auto message = std::make_shared<Message>();
  if (!next_of_stream(*message) || message->data->header_as_Schema() == nullptr)
    fail("this is no file or stream of Arrow: it has no schema");
  schema_ = message->data->header_as_Schema();
  schema_memory_ = std::shared_ptr<const std::string>(message, &message->head);
}

void Stream::read_footer(const std::filesystem::path& path) {
  file_ = std::make_unique<std::ifstream>(path, std::ios::binary);
  file_->seekg(0, std::ios::end);
  file_bytes_ = static_cast<std::uint64_t>(file_->tellg());
  constexpr std::uint64_t end_bytes = sizeof(std::uint32_t) + file_magic.size();
  ahead_.clear();
  if (file_bytes_ < magic_bytes + end_bytes) fail("the file ends in the middle");
  go_to(file_bytes_ - end_bytes);
  const std::string end = read_exactly(end_bytes);
  std::uint32_t size = 0;
  std::memcpy(&size, end.data(), sizeof(size));
  if (!end.ends_with(file_magic) || size > file_bytes_ - end_bytes - magic_bytes)
    fail("the file does not end as one of Arrow");
  go_to(file_bytes_ - end_bytes - size);
  const auto footer = std::make_shared<const std::string>(read_exactly(size));
  flatbuffers::Verifier verifier(reinterpret_cast<const std::uint8_t*>(footer->data()), footer->size());
  if (!verifier.VerifyBuffer<Footer>(nullptr)) fail("the file does not end as one of Arrow");
  const auto& data = *flatbuffers::GetRoot<Footer>(footer->data());
  if (data.schema() == nullptr) fail("this is no file or stream of Arrow: it has no schema");
  schema_ = data.schema();
  schema_memory_ = footer;
  for (const auto* const list : {data.dictionaries(), data.batches()}) {
    if (list == nullptr) continue;
    for (const Block* block : *list) blocks_.push_back(*block);
  }
}

void Stream::go_to(std::uint64_t place) {
  file_->clear();
  file_->seekg(static_cast<std::streamoff>(place));
}

void Stream::fail(const std::string& what) const {
  const std::string where = number_ == 0 ? "" : fmt::format("message {}: ", number_);
  throw base::Failure(base::error_at("JR-524", Place{name(), 0, 0}, where + what, "write the file again"));
}

std::string Stream::read(std::uint64_t count) {
  // Memory is taken as bytes come, whatever is claimed.
  constexpr std::uint64_t step = std::uint64_t{1} << 24;
  std::string out = ahead_.substr(0, count);
  ahead_.erase(0, out.size());
  while (out.size() < count) {
    const std::size_t had = out.size();
    const std::size_t wanted = std::min(step, count - had);
    out.resize(had + wanted);
    std::size_t got = 0;
    if (file_ != nullptr) {
      file_->read(out.data() + had, static_cast<std::streamsize>(wanted));
      got = static_cast<std::size_t>(std::max<std::streamsize>(file_->gcount(), 0));
    } else {
      const auto more = bytes_.read({out.data() + had, wanted});
      if (!more) throw base::Failure(more.error());
      got = *more;
    }
    out.resize(had + got);
    if (got < wanted) break;
  }
  return out;
}

std::string Stream::read_exactly(std::uint64_t count) {
  std::string out = read(count);
  if (out.size() < count) fail("the file ends in the middle");
  return out;
}

bool Stream::next(Message& message) {
  if (file_ == nullptr) return next_of_stream(message);
  if (number_ == blocks_.size()) return false;
  const Block& block = blocks_[number_++];
  std::uint32_t size = 0;
  if (block.offset() < 0 || block.metadata_length() < 0 || static_cast<std::uint64_t>(block.offset()) > file_bytes_)
    fail("it lies outside of the file");
  go_to(static_cast<std::uint64_t>(block.offset()));
  std::string length = read_exactly(sizeof(size));
  std::memcpy(&size, length.data(), sizeof(size));
  if (size == continues) {
    length = read_exactly(sizeof(size));
    std::memcpy(&size, length.data(), sizeof(size));
  }
  read_message(size, message);
  return true;
}

bool Stream::next_of_stream(Message& message) {
  ++number_;
  std::uint32_t size = 0;
  std::string length = read(sizeof(size));
  if (length.empty() && number_ > 1) return false;
  if (length.size() < sizeof(size)) fail("this is no file or stream of Arrow");
  std::memcpy(&size, length.data(), sizeof(size));
  // Older writers left the mark out.
  if (size == continues) {
    length = read_exactly(sizeof(size));
    std::memcpy(&size, length.data(), sizeof(size));
  }
  if (size == 0) {
    // What is behind the end is no part of it, and counts for the hash alone.
    constexpr std::uint64_t step = std::uint64_t{1} << 20;
    while (!read(step).empty()) continue;
    return false;
  }
  read_message(size, message);
  return true;
}

void Stream::read_message(std::uint32_t size, Message& message) {
  if (size > most_head_bytes) fail("this is no message of Arrow");
  message.head = read_exactly(size);
  flatbuffers::Verifier verifier(reinterpret_cast<const std::uint8_t*>(message.head.data()), message.head.size());
  if (!VerifyMessageBuffer(verifier)) fail("this is no message of Arrow");
  message.data = GetMessage(message.head.data());
  if (message.data->body_length() < 0) fail("its body has a length below zero");
  message.body = read_exactly(static_cast<std::uint64_t>(message.data->body_length()));
}

std::uint64_t Stream::bytes_read() const {
  return file_ == nullptr ? bytes_.bytes_read() : 0;
}

void Stream::finish(const TableRequest& request, SourceFile& source) const {
  if (file_ != nullptr) {
    source.hash = hash_file(request, bytes_.name()).value_or(0);
    return;
  }
  source.bytes = bytes_.bytes_read();
  source.hash = bytes_.hash();
}

}  // namespace juniper::source::arrow
