// The messages of a file or stream of Arrow's interprocess format, each with its body. Of a stream, they are read one behind
// the other; a file tells at its end where they stand, and what its schema is.
#pragma once

#include <fstream>
#include <memory>
#include <string>
#include <vector>

#include "messages_generated.h"
#include "source/byte_source.h"
#include "source/source.h"

namespace juniper::source::arrow {

class Stream {
 public:
  // Throws a base::Failure: JR-501, JR-524 (this is none, or has no schema).
  explicit Stream(const std::filesystem::path& path);

  const arrow_ipc::Schema& schema() const { return *schema_; }
  // What the schema lives in.
  std::shared_ptr<const std::string> schema_memory() const { return schema_memory_; }

  struct Message {
    std::string head;  // holds `data`
    const arrow_ipc::Message* data = nullptr;
    std::string body;
  };
  // The next one behind the schema; false at the end. Throws JR-524.
  bool next(Message& message);

  const std::string& name() const { return bytes_.name(); }
  std::uint64_t bytes_read() const;
  // At the end.
  void finish(const TableRequest& request, SourceFile& source) const;
  [[noreturn]] void fail(const std::string& what) const;

 private:
  // Fewer only at the end.
  std::string read(std::uint64_t count);
  std::string read_exactly(std::uint64_t count);
  bool next_of_stream(Message& message);
  void read_message(std::uint32_t size, Message& message);
  void read_footer(const std::filesystem::path& path);
  // Reads from the file at a place.
  void go_to(std::uint64_t place);

  ByteSource bytes_;
  std::string ahead_;  // of what was looked at
  std::uint64_t number_ = 0;
  std::shared_ptr<const std::string> schema_memory_;
  const arrow_ipc::Schema* schema_ = nullptr;
  // Of a file: where its messages stand.
  std::unique_ptr<std::ifstream> file_;
  std::uint64_t file_bytes_ = 0;
  std::vector<arrow_ipc::Block> blocks_;
};

}  // namespace juniper::source::arrow
