// Arrow files and streams as other programs write them (tests/source/arrow/samples, made by writers/write.mjs): each gives
// the values of its twin in CSV; and messages that these do not write, made here: compressed buffers, dictionaries that grow.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <lz4frame.h>
#include <zstd.h>

#include <filesystem>

#include "messages_generated.h"
#include "source/arrow/arrow.h"
#include "source/read_source.h"

namespace juniper::source {
namespace {

namespace fs = std::filesystem;
using test::read_source;
using test::request_of;
using test::texts_of;

const fs::path arrow_samples = fs::path(JUNIPER_SOURCE_DIR) / "tests/source/arrow/samples";

std::vector<ColumnRequest> arrow_columns(bool has_all) {
  const auto of = [](const std::string& name, TypeKind kind, std::uint8_t scale = 0) {
    return ColumnRequest{"c", name, {kind, scale}};
  };
  std::vector<ColumnRequest> columns{
      of("i8", TypeKind::integer),       of("i16", TypeKind::integer),     of("i32", TypeKind::integer),
      of("i64", TypeKind::integer),      of("u8", TypeKind::integer),      of("u32", TypeKind::integer),
      of("u64", TypeKind::integer),      of("f32", TypeKind::decimal, 6),  of("f32", TypeKind::real),
      of("f64", TypeKind::real),         of("text", TypeKind::text),       of("large", TypeKind::text),
      of("coded", TypeKind::text),       of("flag", TypeKind::boolean),    of("day", TypeKind::date),
      of("seconds", TypeKind::datetime), of("micros", TypeKind::datetime), of("time", TypeKind::time)};
  if (has_all) {
    columns.push_back(of("milli_day", TypeKind::date));
    columns.push_back(of("nothing", TypeKind::text));
    columns.push_back(of("site.city", TypeKind::text));
    columns.push_back(of("site.floor", TypeKind::integer));
  }
  return columns;
}

TEST(Arrow, EverySampleGivesTheValuesOfItsTwin) {
  std::size_t files = 0;
  for (const auto& entry : fs::directory_iterator(arrow_samples)) {
    const fs::path& file = entry.path();
    if (file.extension() != ".arrow") continue;
    ++files;
    const auto columns = arrow_columns(file.filename().string().starts_with("a-"));
    const auto twin = read_source(request_of(arrow_samples / "twin.csv", base::SourceKind::csv, columns));
    ASSERT_TRUE(twin) << test::messages(twin.error());
    const auto expected = texts_of(*twin);
    for (const unsigned threads : {1U, 3U}) {
      const TableRequest request = request_of(file, base::SourceKind::arrow, columns);
      const auto input = read_source(request, threads);
      ASSERT_TRUE(input) << file << test::messages(input.error());
      const auto texts = texts_of(*input);
      for (std::size_t c = 0; c < columns.size(); ++c) EXPECT_EQ(texts[c], expected[c]) << file << columns[c].header;
      EXPECT_EQ(input->sources[0].hash, hash_file(request, file));
    }
  }
  EXPECT_EQ(files, 4U);
  const auto refused = read_source(
      request_of(arrow_samples / "a-file.arrow", base::SourceKind::arrow, {{"l", "list", {TypeKind::text, 0}}}));
  ASSERT_FALSE(refused);
  EXPECT_EQ(test::codes(refused.error()), "JR-518");
}

// A stream of one column, message by message.
class StreamMaker {
 public:
  using Builder = flatbuffers::FlatBufferBuilder;

  explicit StreamMaker(arrow_ipc::Kind kind, const std::function<flatbuffers::Offset<void>(Builder&)>& type,
                       bool is_coded = false) {
    Builder builder;
    const auto name = builder.CreateString("x");
    const auto written = type(builder);
    flatbuffers::Offset<arrow_ipc::DictionaryEncoding> coding = 0;
    if (is_coded) coding = arrow_ipc::CreateDictionaryEncoding(builder, 5, arrow_ipc::CreateInt(builder, 8, true));
    const auto field = arrow_ipc::CreateField(builder, name, true, kind, written, coding);
    const auto schema =
        arrow_ipc::CreateSchema(builder, arrow_ipc::Order_little, builder.CreateVector(std::vector{field}));
    add(builder, arrow_ipc::Header_Schema, schema.Union(), "");
  }

  struct Column {
    std::int64_t rows = 0;
    std::int64_t nulls = 0;
    std::vector<std::string> buffers;
    std::vector<std::int64_t> variadic = {};
  };
  void batch(const Column& column, std::optional<arrow_ipc::Codec> codec = std::nullopt) {
    Builder builder;
    std::string body;
    const auto batch = batch_in(builder, column, codec, body);
    add(builder, arrow_ipc::Header_RecordBatch, batch.Union(), body);
  }
  void dictionary(const Column& column, bool is_delta) {
    Builder builder;
    std::string body;
    const auto batch = batch_in(builder, column, std::nullopt, body);
    add(builder, arrow_ipc::Header_DictionaryBatch,
        arrow_ipc::CreateDictionaryBatch(builder, 5, batch, is_delta).Union(), body);
  }

  std::string read(Type type = {TypeKind::text, 0}) const {
    const test::TempFolder folder;
    folder.write("t.arrow", bytes_ + std::string("\xFF\xFF\xFF\xFF\0\0\0\0", 8));
    const auto input = read_source(request_of(folder.path("t.arrow"), base::SourceKind::arrow, {{"x", "x", type}}));
    if (!input) return test::codes(input.error());
    const auto columns = texts_of(*input);
    std::string text;
    for (const std::string& value : columns[0]) text += (text.empty() ? "" : " ") + value;
    return text;
  }
  std::string& bytes() { return bytes_; }

 private:
  static flatbuffers::Offset<arrow_ipc::RecordBatch> batch_in(Builder& builder, const Column& column,
                                                              std::optional<arrow_ipc::Codec> codec,
                                                              std::string& body) {
    std::vector<arrow_ipc::Buffer> buffers;
    for (std::string bytes : column.buffers) {
      if (codec && !bytes.empty()) {
        std::string packed(bytes.size() + 1000, '\0');
        const std::size_t size =
            *codec == arrow_ipc::Codec_zstd
                ? ZSTD_compress(packed.data(), packed.size(), bytes.data(), bytes.size(), 1)
                : LZ4F_compressFrame(packed.data(), packed.size(), bytes.data(), bytes.size(), nullptr);
        packed.resize(size);
        bytes = number(static_cast<std::int64_t>(bytes.size())) + packed;
      }
      buffers.emplace_back(static_cast<std::int64_t>(body.size()), static_cast<std::int64_t>(bytes.size()));
      body += bytes;
      body.resize((body.size() + 7) / 8 * 8);
    }
    const auto nodes = builder.CreateVectorOfStructs(std::vector{arrow_ipc::Node(column.rows, column.nulls)});
    const auto written = builder.CreateVectorOfStructs(buffers);
    const auto variadic = builder.CreateVector(column.variadic);
    flatbuffers::Offset<arrow_ipc::Compression> compression = 0;
    if (codec) compression = arrow_ipc::CreateCompression(builder, *codec);
    return arrow_ipc::CreateRecordBatch(builder, column.rows, nodes, written, compression, variadic);
  }

  void add(Builder& builder, arrow_ipc::Header kind, flatbuffers::Offset<void> header, const std::string& body) {
    builder.Finish(
        arrow_ipc::CreateMessage(builder, arrow_ipc::Version_V5, kind, header, static_cast<std::int64_t>(body.size())));
    std::string head(reinterpret_cast<const char*>(builder.GetBufferPointer()), builder.GetSize());
    head.resize((head.size() + 7) / 8 * 8);
    bytes_ += std::string(4, '\xFF') + number(static_cast<std::int32_t>(head.size())) + head + body;
  }

 public:
  template <class Number>
  static std::string number(Number value) {
    std::string out(sizeof(value), '\0');
    std::memcpy(out.data(), &value, sizeof(value));
    return out;
  }
  template <class Number>
  static std::string numbers(const std::vector<Number>& values) {
    std::string out;
    for (const Number value : values) out += number(value);
    return out;
  }

 private:
  std::string bytes_;
};

StreamMaker of_integers() {
  return StreamMaker(arrow_ipc::Kind_Int,
                     [](auto& builder) { return arrow_ipc::CreateInt(builder, 64, true).Union(); });
}
StreamMaker of_texts(bool is_coded = false) {
  return StreamMaker(
      arrow_ipc::Kind_Utf8, [](auto& builder) { return arrow_ipc::CreateUtf8(builder).Union(); }, is_coded);
}

TEST(Arrow, CompressedBuffersAreRead) {
  const auto values = StreamMaker::numbers(std::vector<std::int64_t>{1, -2, 3});
  for (const auto codec : {arrow_ipc::Codec_lz4_frame, arrow_ipc::Codec_zstd}) {
    StreamMaker stream = of_integers();
    stream.batch({3, 1, {"\x05", values}}, codec);
    stream.batch({3, 0, {"", values}}, codec);
    EXPECT_EQ(stream.read(), "'1' null '3' '1' '-2' '3'");
    // One that claims more than it holds.
    StreamMaker more = of_integers();
    more.batch({1, 0, {"", values}}, codec);
    const std::size_t at = more.bytes().rfind(StreamMaker::number(std::int64_t{24}));
    ASSERT_NE(at, std::string::npos);
    more.bytes().replace(at, 8, StreamMaker::number(std::int64_t{1} << 31));
    EXPECT_EQ(more.read(), "JR-524");
  }
  // A buffer that is left as it is among compressed ones.
  StreamMaker plain = of_integers();
  plain.batch({3, 0, {"", StreamMaker::number(std::int64_t{-1}) + values}});
  EXPECT_EQ(plain.read(), "'-1' '1' '-2'");
}

TEST(Arrow, DictionariesGrowAndAreReplaced) {
  const auto texts = [](const std::vector<std::string>& list) {
    std::vector<std::int32_t> ends{0};
    std::string data;
    for (const std::string& text : list) {
      data += text;
      ends.push_back(static_cast<std::int32_t>(data.size()));
    }
    return StreamMaker::Column{static_cast<std::int64_t>(list.size()), 0, {"", StreamMaker::numbers(ends), data}};
  };
  StreamMaker stream = of_texts(true);
  stream.dictionary(texts({"a", "b"}), false);
  stream.batch({3, 1, {std::string("\x05", 1), std::string("\x01\x00\x00", 3)}});
  stream.dictionary(texts({"c"}), true);
  stream.batch({2, 0, {"", std::string("\x02\x00", 2)}});
  stream.dictionary(texts({"z"}), false);
  stream.batch({1, 0, {"", std::string("\x00", 1)}});
  EXPECT_EQ(stream.read(), "'b' null 'a' 'c' 'a' 'z'");
  // A number that the dictionary does not have, and a dictionary that is not there.
  StreamMaker beyond = of_texts(true);
  beyond.dictionary(texts({"a"}), false);
  beyond.batch({1, 0, {"", std::string("\x07", 1)}});
  EXPECT_EQ(beyond.read(), "JR-503");
  StreamMaker without = of_texts(true);
  without.batch({1, 0, {"", std::string("\x00", 1)}});
  EXPECT_EQ(without.read(), "JR-524");
}

TEST(Arrow, OtherLayoutsAndTypes) {
  // Views: short texts stand in them, longer ones elsewhere.
  StreamMaker views(arrow_ipc::Kind_Utf8View, [](auto& builder) { return arrow_ipc::CreateUtf8View(builder).Union(); });
  const auto here = [](const std::string& text) {
    std::string view = StreamMaker::number(static_cast<std::int32_t>(text.size())) + text;
    view.resize(16);
    return view;
  };
  const auto there = [](std::int32_t size, std::int32_t part, std::int32_t begin) {
    return StreamMaker::numbers(std::vector<std::int32_t>{size, 0, part, begin});
  };
  views.batch({3, 0, {"", here("short") + there(13, 1, 2) + here(""), "", "..thirteen more."}, {2}});
  EXPECT_EQ(views.read(), "'short' 'thirteen more' ''");
  StreamMaker wrong(arrow_ipc::Kind_Utf8View, [](auto& builder) { return arrow_ipc::CreateUtf8View(builder).Union(); });
  wrong.batch({1, 0, {"", there(13, 1, 2), "..thirteen more."}, {1}});
  EXPECT_EQ(wrong.read(), "JR-503");
  for (const int bits : {32, 64, 128, 256}) {
    StreamMaker decimals(arrow_ipc::Kind_Decimal,
                         [&](auto& builder) { return arrow_ipc::CreateDecimal(builder, 9, 2, bits).Union(); });
    std::string value = StreamMaker::number(std::int64_t{-1234});
    value.resize(static_cast<std::size_t>(bits / 8), '\xFF');
    decimals.batch({1, 0, {"", value}});
    EXPECT_EQ(decimals.read({TypeKind::decimal, 2}), "'-12.34'") << bits;
  }
  StreamMaker halves(arrow_ipc::Kind_FloatingPoint, [](auto& builder) {
    return arrow_ipc::CreateFloatingPoint(builder, arrow_ipc::Precision_half).Union();
  });
  halves.batch({3, 0, {"", StreamMaker::numbers(std::vector<std::uint16_t>{0x3C00, 0xC580, 0x0001})}});
  EXPECT_EQ(halves.read({TypeKind::real, 0}), "'1' '-5.5' '5.960464477539063e-08'");
  StreamMaker nanos(arrow_ipc::Kind_Timestamp, [](auto& builder) {
    return arrow_ipc::CreateTimestamp(builder, arrow_ipc::TimeUnit_nanosecond).Union();
  });
  nanos.batch({2, 0, {"", StreamMaker::numbers(std::vector<std::int64_t>{1'500, -1})}});
  EXPECT_EQ(nanos.read({TypeKind::datetime, 0}), "'1970-01-01 00:00:00.000001' '1969-12-31 23:59:59.999999'");
  StreamMaker seconds(arrow_ipc::Kind_Timestamp, [](auto& builder) {
    return arrow_ipc::CreateTimestamp(builder, arrow_ipc::TimeUnit_second).Union();
  });
  seconds.batch({1, 0, {"", StreamMaker::numbers(std::vector<std::int64_t>{std::int64_t{1} << 60})}});
  EXPECT_EQ(seconds.read({TypeKind::datetime, 0}), "JR-507");
}

TEST(Arrow, WhatIsDamagedIsTold) {
  // Buffers that are too short, outside of the message, or missing; offsets that go back.
  const auto told = [](const StreamMaker::Column& column) {
    StreamMaker stream = of_texts();
    stream.batch(column);
    return stream.read();
  };
  EXPECT_EQ(told({2, 0, {"", StreamMaker::numbers(std::vector<std::int32_t>{0, 1}), "ab"}}), "JR-524");
  EXPECT_EQ(told({1, 1, {"", StreamMaker::numbers(std::vector<std::int32_t>{0, 1}), "ab"}}), "JR-524");
  EXPECT_EQ(told({1, 0, {"", StreamMaker::numbers(std::vector<std::int32_t>{1, 0}), "ab"}}), "JR-503");
  EXPECT_EQ(told({1, 0, {"", StreamMaker::numbers(std::vector<std::int32_t>{0, 9}), "ab"}}), "JR-503");
  EXPECT_EQ(told({1, 0, {"", StreamMaker::numbers(std::vector<std::int32_t>{0, 1})}}), "JR-524");
  EXPECT_EQ(told({std::int64_t{1} << 40, 0, {"", "", ""}}), "JR-524");
  EXPECT_EQ(told({-1, 0, {"", "", ""}}), "JR-524");
  std::mt19937_64 random(test::test_seed(41));
  const test::TempFolder folder;
  for (const char* const name : {"a-file.arrow", "a-parts-stream.arrow"}) {
    const std::string whole = test::read_file((arrow_samples / name).string());
    const auto try_it = [&](const std::string& bytes) {
      folder.write(name, bytes);
      const auto input = read_source(request_of(folder.path(name), base::SourceKind::arrow, arrow_columns(true)), 1);
      EXPECT_TRUE(input || !test::messages(input.error()).empty());
      return input.has_value() ? input->rows : 0;
    };
    for (std::size_t i = 0; i < test::test_count(60); ++i)
      EXPECT_LT(try_it(whole.substr(0, random() % (whole.size() - 8))), 250U);
    for (std::size_t i = 0; i < test::test_count(300); ++i) {
      std::string changed = whole;
      changed[random() % changed.size()] = static_cast<char>(random());
      try_it(changed);
    }
  }
}

}  // namespace
}  // namespace juniper::source
