// Arrow's interprocess format (https://arrow.apache.org/docs/format/Columnar.html): a file of record batches, uncompressed,
// so that it can be mapped.
#include <algorithm>
#include <cstring>

#include "messages_generated.h"
#include "writing/append.h"
#include "writing/table_writer.h"

namespace juniper::writing {

namespace {

namespace ipc = arrow_ipc;
using flatbuffers::FlatBufferBuilder;
using flatbuffers::Offset;

constexpr std::string_view file_magic = "ARROW1";
constexpr std::size_t alignment = 8;
constexpr std::int32_t continues = -1;

// Fills up to a multiple of eight bytes.
void align(std::string& bytes) {
  bytes.resize((bytes.size() + alignment - 1) / alignment * alignment);
}

struct WrittenType {
  ipc::Kind kind;
  Offset<void> type;
};

WrittenType type_of(const WrittenColumn& column, FlatBufferBuilder& builder) {
  switch (column.type.kind) {
    case TypeKind::boolean:
      return {ipc::Kind_Bool, ipc::CreateBool(builder).Union()};
    case TypeKind::integer:
      return {ipc::Kind_Int, ipc::CreateInt(builder, 64, true).Union()};
    case TypeKind::decimal:
      return {ipc::Kind_Decimal, ipc::CreateDecimal(builder, 38, column.type.scale, 128).Union()};
    case TypeKind::real:
      return {ipc::Kind_FloatingPoint, ipc::CreateFloatingPoint(builder, ipc::Precision_double_).Union()};
    case TypeKind::text:
      return {ipc::Kind_LargeUtf8, ipc::CreateLargeUtf8(builder).Union()};
    case TypeKind::date:
      return {ipc::Kind_Date, ipc::CreateDate(builder, ipc::DateUnit_day).Union()};
    case TypeKind::datetime:
      return {ipc::Kind_Timestamp, ipc::CreateTimestamp(builder, ipc::TimeUnit_microsecond).Union()};
    case TypeKind::time:
      return {ipc::Kind_Time, ipc::CreateTime(builder, ipc::TimeUnit_microsecond, 64).Union()};
  }
  return {ipc::Kind_NONE, 0};
}

// A bit for each row, the lowest first.
template <class IsSet>
std::string bits_of(std::size_t rows, const IsSet& is_set) {
  std::string bits((rows + 7) / 8, '\0');
  for (std::size_t row = 0; row < rows; ++row) {
    if (is_set(row)) bits[row / 8] = static_cast<char>(static_cast<unsigned char>(bits[row / 8]) | 1U << row % 8);
  }
  return bits;
}

// The values of a column, without what tells which are there; of texts, their ends go to `offsets`.
std::string values_of(const WrittenColumn& column, const BatchColumn& values, std::size_t rows, std::string& offsets) {
  std::string out;
  switch (column.type.kind) {
    case TypeKind::boolean:
      return bits_of(rows, [&](std::size_t row) { return values.exact[row] != 0; });
    case TypeKind::integer:
    case TypeKind::datetime:
    case TypeKind::time:
      for (std::size_t row = 0; row < rows; ++row) append(out, static_cast<std::int64_t>(values.exact[row]));
      return out;
    case TypeKind::decimal:
      for (std::size_t row = 0; row < rows; ++row) append(out, values.exact[row]);
      return out;
    case TypeKind::real:
      for (std::size_t row = 0; row < rows; ++row) append(out, values.real[row]);
      return out;
    case TypeKind::date:
      for (std::size_t row = 0; row < rows; ++row) append(out, static_cast<std::int32_t>(values.exact[row]));
      return out;
    case TypeKind::text:
      append(offsets, std::int64_t{0});
      for (std::size_t row = 0; row < rows; ++row) {
        if (values.is_null[row] == 0) out += values.text[row];
        append(offsets, static_cast<std::int64_t>(out.size()));
      }
      return out;
  }
  return out;
}

class ArrowWriter : public TableWriter {
 public:
  ArrowWriter(std::vector<WrittenColumn> columns, Sink sink) : columns_(std::move(columns)), sink_(std::move(sink)) {
    std::string begin(file_magic);
    align(begin);
    put(begin);
    FlatBufferBuilder builder;
    const auto schema = schema_in(builder);
    write_message(builder, ipc::Header_Schema, schema.Union(), "");
  }

  void write(const Batch& batch) override {
    if (batch.rows == 0) return;
    std::string body;
    std::vector<ipc::Buffer> buffers;
    std::vector<ipc::Node> nodes;
    const auto add = [&](const std::string& bytes) {
      buffers.emplace_back(static_cast<std::int64_t>(body.size()), static_cast<std::int64_t>(bytes.size()));
      body += bytes;
      align(body);
    };
    for (std::size_t c = 0; c < columns_.size(); ++c) {
      const BatchColumn& values = batch.columns[c];
      const auto nulls = std::count(values.is_null.begin(), values.is_null.end(), 1);
      nodes.emplace_back(static_cast<std::int64_t>(batch.rows), nulls);
      add(nulls == 0 ? std::string() : bits_of(batch.rows, [&](std::size_t row) { return values.is_null[row] == 0; }));
      std::string offsets;
      const std::string data = values_of(columns_[c], values, batch.rows, offsets);
      if (columns_[c].type.kind == TypeKind::text) add(offsets);
      add(data);
    }
    FlatBufferBuilder builder;
    const auto written_nodes = builder.CreateVectorOfStructs(nodes);
    const auto written_buffers = builder.CreateVectorOfStructs(buffers);
    const auto written =
        ipc::CreateRecordBatch(builder, static_cast<std::int64_t>(batch.rows), written_nodes, written_buffers);
    batches_.push_back(write_message(builder, ipc::Header_RecordBatch, written.Union(), body));
  }

  void finish() override {
    std::string end;
    append(end, continues);
    append(end, std::int32_t{0});
    put(end);
    FlatBufferBuilder builder;
    const auto schema = schema_in(builder);
    const auto dictionaries = builder.CreateVectorOfStructs(std::vector<ipc::Block>());
    const auto batches = builder.CreateVectorOfStructs(batches_);
    builder.Finish(ipc::CreateFooter(builder, ipc::Version_V5, schema, dictionaries, batches));
    std::string footer(reinterpret_cast<const char*>(builder.GetBufferPointer()), builder.GetSize());
    append(footer, static_cast<std::int32_t>(builder.GetSize()));
    footer += file_magic;
    put(footer);
  }

 private:
  Offset<ipc::Schema> schema_in(FlatBufferBuilder& builder) const {
    std::vector<Offset<ipc::Field>> fields;
    for (const WrittenColumn& column : columns_) {
      const auto name = builder.CreateString(column.name);
      const WrittenType written = type_of(column, builder);
      // Readers expect the list of children also where there are none.
      const auto children = builder.CreateVector(std::vector<Offset<ipc::Field>>());
      fields.push_back(ipc::CreateField(builder, name, true, written.kind, written.type, 0, children));
    }
    return ipc::CreateSchema(builder, ipc::Order_little, builder.CreateVector(fields));
  }

  void put(std::string_view bytes) {
    sink_(bytes);
    bytes_ += bytes.size();
  }

  // Where it stands, for the end of the file.
  ipc::Block write_message(FlatBufferBuilder& builder, ipc::Header kind, Offset<void> header, const std::string& body) {
    builder.Finish(ipc::CreateMessage(builder, ipc::Version_V5, kind, header, static_cast<std::int64_t>(body.size())));
    std::string head(reinterpret_cast<const char*>(builder.GetBufferPointer()), builder.GetSize());
    align(head);
    std::string begin;
    append(begin, continues);
    append(begin, static_cast<std::int32_t>(head.size()));
    const ipc::Block block(static_cast<std::int64_t>(bytes_), static_cast<std::int32_t>(begin.size() + head.size()),
                           static_cast<std::int64_t>(body.size()));
    put(begin);
    put(head);
    put(body);
    return block;
  }

  std::vector<WrittenColumn> columns_;
  Sink sink_;
  std::uint64_t bytes_ = 0;
  std::vector<ipc::Block> batches_;
};

}  // namespace

std::unique_ptr<TableWriter> arrow_writer(std::vector<WrittenColumn> columns, Sink sink) {
  return std::make_unique<ArrowWriter>(std::move(columns), std::move(sink));
}

}  // namespace juniper::writing
