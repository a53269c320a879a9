#include "source/arrow/columns.h"

#include <fmt/format.h>
#include <lz4frame.h>
#include <zstd.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <limits>

#include "base/calendar.h"
#include "base/exact.h"
#include "juniper/value.h"

namespace juniper::source::arrow {

namespace {

using namespace arrow_ipc;

constexpr std::uint64_t most_rows = std::uint64_t{1} << 31;
constexpr std::uint64_t most_buffer_bytes = std::uint64_t{1} << 32;

template <class Number>
Number number_in(std::string_view bytes, std::uint64_t at) {
  Number number{};
  std::memcpy(&number, bytes.data() + at * sizeof(Number), sizeof(Number));
  return number;
}

// Half a real (IEEE 754, binary16).
double half_real(std::uint16_t bits) {
  const int exponent = bits >> 10 & 31;
  const double fraction = bits & 1023;
  double value = exponent == 0 ? std::ldexp(fraction, -24) : std::ldexp(1024 + fraction, exponent - 25);
  if (exponent == 31)
    value = fraction == 0 ? std::numeric_limits<double>::infinity() : std::numeric_limits<double>::quiet_NaN();
  return (bits & 0x8000) != 0 ? -value : value;
}

// How values of a type stand in a batch.
enum class Layout : std::uint8_t { nothing, bits, fixed, offsets, views, structure, refused };

Layout layout_of(Kind type) {
  switch (type) {
    case Kind_Null:
      return Layout::nothing;
    case Kind_Bool:
      return Layout::bits;
    case Kind_Int:
    case Kind_FloatingPoint:
    case Kind_Decimal:
    case Kind_Date:
    case Kind_Time:
    case Kind_Timestamp:
    case Kind_FixedSizeBinary:
      return Layout::fixed;
    case Kind_Binary:
    case Kind_Utf8:
    case Kind_LargeBinary:
    case Kind_LargeUtf8:
      return Layout::offsets;
    case Kind_BinaryView:
    case Kind_Utf8View:
      return Layout::views;
    case Kind_Structure:
      return Layout::structure;
    case Kind_NONE:
    case Kind_Interval:
    case Kind_List:
    case Kind_Union:
    case Kind_FixedSizeList:
    case Kind_Map:
    case Kind_Duration:
    case Kind_LargeList:
    case Kind_RunEndEncoded:
    case Kind_ListView:
    case Kind_LargeListView:
      return Layout::refused;
  }
  return Layout::refused;
}

bool is_large(Kind type) {
  return type == Kind_LargeBinary || type == Kind_LargeUtf8;
}

// Bytes of a value of fixed width; 0 for one that no version has.
std::uint64_t width_of(const Field& field) {
  switch (field.type_type()) {
    case Kind_Int: {
      const int bits = field.type_as_Int()->bits();
      return bits == 8 || bits == 16 || bits == 32 || bits == 64 ? static_cast<std::uint64_t>(bits / 8) : 0;
    }
    case Kind_FloatingPoint: {
      const auto precision = static_cast<int>(field.type_as_FloatingPoint()->precision());
      return precision >= 0 && precision <= 2 ? std::uint64_t{2} << precision : 0;
    }
    case Kind_Decimal: {
      const int bits = field.type_as_Decimal()->bits();
      return bits == 32 || bits == 64 || bits == 128 || bits == 256 ? static_cast<std::uint64_t>(bits / 8) : 0;
    }
    case Kind_Date:
      return field.type_as_Date()->unit() == DateUnit_day ? 4 : 8;
    case Kind_Time:
      return field.type_as_Time()->bits() == 32 ? 4 : 8;
    case Kind_Timestamp:
      return 8;
    case Kind_FixedSizeBinary:
      return static_cast<std::uint64_t>(std::max(field.type_as_FixedSizeBinary()->width(), 0));
    case Kind_NONE:
    case Kind_Null:
    case Kind_Bool:
    case Kind_Binary:
    case Kind_Utf8:
    case Kind_LargeBinary:
    case Kind_LargeUtf8:
    case Kind_BinaryView:
    case Kind_Utf8View:
    case Kind_Interval:
    case Kind_List:
    case Kind_Structure:
    case Kind_Union:
    case Kind_FixedSizeList:
    case Kind_Map:
    case Kind_Duration:
    case Kind_LargeList:
    case Kind_RunEndEncoded:
    case Kind_ListView:
    case Kind_LargeListView:
      return 0;
  }
  return 0;
}

// A number of units as microseconds, downwards where it has parts of them; nothing where it does not fit.
std::optional<std::int64_t> microseconds(std::int64_t value, TimeUnit unit) {
  std::int64_t out = 0;
  switch (unit) {
    case TimeUnit_second:
      return __builtin_mul_overflow(value, std::int64_t{1'000'000}, &out) ? std::nullopt : std::optional(out);
    case TimeUnit_millisecond:
      return __builtin_mul_overflow(value, std::int64_t{1'000}, &out) ? std::nullopt : std::optional(out);
    case TimeUnit_microsecond:
      return value;
    case TimeUnit_nanosecond:
      return base::floor_divide(value, 1'000);
  }
  return std::nullopt;
}

// Days from the first to the last year that there is here.
constexpr std::int64_t first_day = -719'162;
constexpr std::int64_t last_day = 2'932'896;

}  // namespace

bool ColumnView::is_null(std::uint64_t row) const {
  return std::any_of(validity_.begin(), validity_.end(), [&](std::string_view bits) {
    return (static_cast<unsigned char>(bits[row / 8]) >> row % 8 & 1) == 0;
  });
}

std::uint64_t ColumnView::number_at(std::uint64_t row, int bits) const {
  switch (bits) {
    case 8:
      return number_in<std::uint8_t>(data_, row);
    case 16:
      return number_in<std::uint16_t>(data_, row);
    case 32:
      return number_in<std::uint32_t>(data_, row);
    default:
      return number_in<std::uint64_t>(data_, row);
  }
}

std::string_view ColumnView::text_at(std::uint64_t row) const {
  if (layout_of(field_->type_type()) == Layout::offsets) {
    const bool large = is_large(field_->type_type());
    const std::uint64_t begin =
        large ? number_in<std::uint64_t>(offsets_, row) : number_in<std::uint32_t>(offsets_, row);
    const std::uint64_t end =
        large ? number_in<std::uint64_t>(offsets_, row + 1) : number_in<std::uint32_t>(offsets_, row + 1);
    // Other places than those that the data has give no text; what is no text is told.
    if (begin > end || end > data_.size()) return "\xFF";
    return data_.substr(begin, end - begin);
  }
  // A length, and the text itself or where it stands.
  constexpr std::uint64_t view_bytes = 16;
  constexpr std::uint32_t most_here = 12;
  const std::string_view view = data_.substr(row * view_bytes, view_bytes);
  const auto length = number_in<std::uint32_t>(view, 0);
  if (length <= most_here) return view.substr(4, length);
  const auto part = number_in<std::uint32_t>(view, 2);
  const auto begin = number_in<std::uint32_t>(view, 3);
  if (part >= parts_.size() || begin > parts_[part].size() || length > parts_[part].size() - begin) return "\xFF";
  return parts_[part].substr(begin, length);
}

Cell ColumnView::at(std::uint64_t row, Cells& cells) const {
  if (is_all_null_ || is_null(row)) return {};
  if (dictionary_ == nullptr) return value_at(row, cells);
  const Int* const index = field_->dictionary()->index();
  const std::uint64_t number = number_at(row, index != nullptr ? index->bits() : 32);
  return number < dictionary_->cells.size() ? dictionary_->cells[number] : Cell::of_text("\xFF");
}

Cell ColumnView::value_at(std::uint64_t row, Cells& cells) const {
  const auto plain = [&](const std::string& text) { return Cell::of_plain(cells.keep(text)); };
  // What this program's calendar does not have is shown as the number that it is.
  const auto moment = [&](std::optional<std::int64_t> at, std::int64_t written) {
    const bool fits = at && base::floor_divide(*at, base::microseconds_per_day) >= first_day &&
                      base::floor_divide(*at, base::microseconds_per_day) <= last_day;
    return fits ? plain(base::datetime_text(*at)) : Cell::of_integer(written);
  };
  switch (field_->type_type()) {
    case Kind_Bool:
      return Cell::of_plain((static_cast<unsigned char>(data_[row / 8]) >> row % 8 & 1) != 0 ? "true" : "false");
    case Kind_Int: {
      const Int& type = *field_->type_as_Int();
      const std::uint64_t number = number_at(row, type.bits());
      if (!type.is_signed())
        return number >> 63 == 0 ? Cell::of_integer(static_cast<std::int64_t>(number)) : plain(std::to_string(number));
      const int unused = 64 - type.bits();
      return Cell::of_integer(static_cast<std::int64_t>(number << unused) >> unused);
    }
    case Kind_FloatingPoint:
      switch (field_->type_as_FloatingPoint()->precision()) {
        case Precision_half:
          return Cell::of_real(half_real(number_in<std::uint16_t>(data_, row)));
        case Precision_single:
          return Cell::of_real(number_in<float>(data_, row));
        case Precision_double_:
          return Cell::of_real(number_in<double>(data_, row));
      }
      return {};
    case Kind_Decimal: {
      const Decimal& type = *field_->type_as_Decimal();
      int128 units = 0;
      if (type.bits() == 32) {
        units = number_in<std::int32_t>(data_, row);
      } else if (type.bits() == 64) {
        units = number_in<std::int64_t>(data_, row);
      } else {
        const std::uint64_t words = static_cast<std::uint64_t>(type.bits()) / 64;
        units = static_cast<int128>(number_in<std::uint64_t>(data_, row * words)) |
                static_cast<int128>(number_in<std::int64_t>(data_, row * words + 1)) << 64;
        // Of four words, the upper two hold the sign alone.
        for (std::uint64_t word = 2; word < words; ++word) {
          if (number_in<std::int64_t>(data_, row * words + word) != (units < 0 ? -1 : 0))
            return Cell::of_text("a number of more than 128 bits");
        }
      }
      return plain(base::exact_text(units, type.scale()));
    }
    case Kind_Date: {
      const bool in_days = field_->type_as_Date()->unit() == DateUnit_day;
      const std::int64_t value = in_days ? number_in<std::int32_t>(data_, row) : number_in<std::int64_t>(data_, row);
      const std::int64_t day = in_days ? value : base::floor_divide(value, 86'400'000);
      return day >= first_day && day <= last_day ? plain(base::date_text(day)) : Cell::of_integer(value);
    }
    case Kind_Time: {
      const Time& type = *field_->type_as_Time();
      const std::int64_t value =
          type.bits() == 32 ? number_in<std::int32_t>(data_, row) : number_in<std::int64_t>(data_, row);
      const auto at = microseconds(value, type.unit());
      return at && *at >= 0 && *at < base::microseconds_per_day ? plain(base::time_text(*at)) : Cell::of_integer(value);
    }
    case Kind_Timestamp: {
      const auto value = number_in<std::int64_t>(data_, row);
      return moment(microseconds(value, field_->type_as_Timestamp()->unit()), value);
    }
    case Kind_FixedSizeBinary: {
      const std::uint64_t width = width_of(*field_);
      return Cell::of_text(data_.substr(row * width, width));
    }
    case Kind_Binary:
    case Kind_Utf8:
    case Kind_LargeBinary:
    case Kind_LargeUtf8:
    case Kind_BinaryView:
    case Kind_Utf8View:
      return Cell::of_text(text_at(row));
    case Kind_NONE:
    case Kind_Null:
    case Kind_Interval:
    case Kind_List:
    case Kind_Structure:
    case Kind_Union:
    case Kind_FixedSizeList:
    case Kind_Map:
    case Kind_Duration:
    case Kind_LargeList:
    case Kind_RunEndEncoded:
    case Kind_ListView:
    case Kind_LargeListView:
      return {};
  }
  return {};
}

namespace {

void add_leaves(const flatbuffers::Vector<flatbuffers::Offset<Field>>* fields, const std::string& prefix, int depth,
                std::vector<Leaf>& leaves) {
  if (fields == nullptr) return;
  constexpr int deepest = 50;
  for (const Field* field : *fields) {
    const std::string name = prefix + (field->name() != nullptr ? field->name()->str() : "");
    const Layout layout = layout_of(field->type_type());
    if (field->dictionary() == nullptr && layout == Layout::structure && depth < deepest) {
      add_leaves(field->children(), name + ".", depth + 1, leaves);
      continue;
    }
    std::string refusal;
    if (layout == Layout::refused || layout == Layout::structure)
      refusal = fmt::format("it is of the kind {}, which is not read", EnumNameKind(field->type_type()));
    if (field->type_type() == Kind_Decimal &&
        (field->type_as_Decimal()->scale() < 0 || field->type_as_Decimal()->scale() > 30))
      refusal = fmt::format("its decimals have the scale {}, which is not read", field->type_as_Decimal()->scale());
    if (layout == Layout::fixed && width_of(*field) == 0) refusal = "its values have a width that is not read";
    leaves.push_back({name, refusal});
  }
}

// Fields of a schema by the ids of their dictionaries.
const Field* field_of_dictionary(const flatbuffers::Vector<flatbuffers::Offset<Field>>* fields, std::int64_t id) {
  if (fields == nullptr) return nullptr;
  for (const Field* field : *fields) {
    if (field->dictionary() != nullptr && field->dictionary()->id() == id) return field;
    if (const Field* const within = field_of_dictionary(field->children(), id)) return within;
  }
  return nullptr;
}

}  // namespace

std::vector<Leaf> leaves_of(const Schema& schema) {
  std::vector<Leaf> leaves;
  add_leaves(schema.fields(), "", 0, leaves);
  return leaves;
}

// Goes through a batch in the order of its schema.
class BatchReader {
 public:
  BatchReader(const Stream& stream, const RecordBatch& batch, Bytes body, const Dictionaries& dictionaries)
      : stream_(stream), batch_(batch), body_(std::move(body)), dictionaries_(dictionaries) {
    if (batch.length() < 0 || static_cast<std::uint64_t>(batch.length()) > most_rows)
      stream_.fail("a batch has a number of rows that is none");
  }

  void read(const flatbuffers::Vector<flatbuffers::Offset<Field>>* fields, const std::vector<std::uint8_t>& wanted) {
    wanted_ = &wanted;
    if (fields == nullptr) return;
    for (const Field* field : *fields) visit(*field, {}, 0);
  }
  // One field alone: the values of a dictionary.
  void read_values(const Field& field) {
    const std::vector<std::uint8_t> all{1};
    wanted_ = &all;
    ColumnView view;
    view.field_ = &field;
    if (next_rows() != static_cast<std::uint64_t>(batch_.length()))
      stream_.fail("a dictionary has another number of values than its batch");
    read_column(view, false, static_cast<std::uint64_t>(batch_.length()), true);
    columns_.push_back(std::move(view));
  }
  std::vector<ColumnView> take() { return std::move(columns_); }

 private:
  static constexpr int deepest = 50;

  void visit(const Field& field, const std::vector<std::string_view>& around, int depth) {
    if (depth > deepest) stream_.fail("its fields stand in each other more than 50 deep");
    const bool is_coded = field.dictionary() != nullptr;
    if (!is_coded && layout_of(field.type_type()) == Layout::structure) {
      std::vector<std::string_view> inside = around;
      const std::uint64_t rows = next_rows();
      if (rows != static_cast<std::uint64_t>(batch_.length()))
        stream_.fail("a column has another number of rows than its batch");
      const std::string_view validity = next_validity(rows);
      if (!validity.empty()) inside.push_back(validity);
      if (field.children() == nullptr) return;
      for (const Field* child : *field.children()) visit(*child, inside, depth + 1);
      return;
    }
    const bool is_wanted = leaf_ < wanted_->size() && (*wanted_)[leaf_] != 0;
    ++leaf_;
    if (!is_coded && layout_of(field.type_type()) == Layout::refused) return pass_over(field, depth);
    ColumnView view;
    view.field_ = &field;
    view.validity_ = around;
    const std::uint64_t rows = next_rows();
    if (is_wanted && rows != static_cast<std::uint64_t>(batch_.length()))
      stream_.fail("a column has another number of rows than its batch");
    read_column(view, is_coded, rows, is_wanted);
    if (!is_wanted) return;
    view.memory_ = memory_;
    columns_.push_back(std::move(view));
  }

  void read_column(ColumnView& view, bool is_coded, std::uint64_t rows, bool is_wanted) {
    const Field& field = *view.field_;
    if (!is_wanted) return pass_column(field, is_coded);
    if (is_coded) {
      const Int* const index = field.dictionary()->index();
      const int bits = index != nullptr ? index->bits() : 32;
      if (bits != 8 && bits != 16 && bits != 32 && bits != 64)
        stream_.fail("numbers of a dictionary have a width that is none");
      add_validity(view, rows);
      view.data_ = next_buffer(rows * static_cast<std::uint64_t>(bits) / 8);
      const auto at = dictionaries_.find(field.dictionary()->id());
      if (at == dictionaries_.end() && rows > 0)
        stream_.fail(fmt::format("the dictionary {} is not there", field.dictionary()->id()));
      view.dictionary_ = at != dictionaries_.end() ? at->second : std::make_shared<const Dictionary>();
      return;
    }
    switch (layout_of(field.type_type())) {
      case Layout::nothing:
        view.is_all_null_ = true;
        return;
      case Layout::bits:
        add_validity(view, rows);
        view.data_ = next_buffer((rows + 7) / 8);
        return;
      case Layout::fixed:
        add_validity(view, rows);
        view.data_ = next_buffer(rows * width_of(field));
        return;
      case Layout::offsets: {
        add_validity(view, rows);
        const std::uint64_t width = is_large(field.type_type()) ? 8 : 4;
        // Of no rows, there need be no offsets.
        view.offsets_ = next_buffer(rows == 0 ? 0 : (rows + 1) * width);
        view.data_ = next_buffer(0);
        return;
      }
      case Layout::views: {
        add_validity(view, rows);
        view.data_ = next_buffer(rows * 16);
        const std::int64_t parts = next_variadic();
        for (std::int64_t part = 0; part < parts; ++part) view.parts_.push_back(next_buffer(0));
        return;
      }
      case Layout::structure:
      case Layout::refused:
        stream_.fail("a dictionary holds values of a kind that is not read");
    }
  }

  // Buffers of a column that nobody wants.
  void pass_column(const Field& field, bool is_coded) {
    if (is_coded) return pass_buffers(2);
    switch (layout_of(field.type_type())) {
      case Layout::nothing:
        return;
      case Layout::bits:
      case Layout::fixed:
        return pass_buffers(2);
      case Layout::offsets:
        return pass_buffers(3);
      case Layout::views: {
        pass_buffers(2);
        return pass_buffers(next_variadic());
      }
      case Layout::structure:
      case Layout::refused:
        return;
    }
  }

  // The nodes and buffers of a kind that is not read, with its children.
  void pass_over(const Field& field, int depth) {
    next_rows();
    const Kind type = field.type_type();
    const bool has_sizes = type == Kind_ListView || type == Kind_LargeListView;
    const bool has_two = type == Kind_List || type == Kind_LargeList || type == Kind_Map || type == Kind_Interval ||
                         type == Kind_Duration ||
                         (type == Kind_Union && field.type_as_Union()->mode() == UnionMode_dense);
    if (type != Kind_RunEndEncoded && type != Kind_NONE) pass_buffers(has_sizes ? 3 : (has_two ? 2 : 1));
    if (field.children() == nullptr) return;
    for (const Field* child : *field.children()) pass_field(*child, depth + 1);
  }
  void pass_field(const Field& field, int depth) {
    if (depth > deepest) stream_.fail("its fields stand in each other more than 50 deep");
    const bool is_coded = field.dictionary() != nullptr;
    const Layout layout = layout_of(field.type_type());
    if (!is_coded && layout == Layout::refused) return pass_over(field, depth);
    next_rows();
    if (is_coded || layout != Layout::structure) return pass_column(field, is_coded);
    pass_buffers(1);
    if (field.children() == nullptr) return;
    for (const Field* child : *field.children()) pass_field(*child, depth + 1);
  }

  std::uint64_t next_rows() {
    if (batch_.nodes() == nullptr || node_ >= batch_.nodes()->size())
      stream_.fail("a batch has fewer columns than its schema");
    const Node* const node = batch_.nodes()->Get(node_++);
    if (node->length() < 0 || static_cast<std::uint64_t>(node->length()) > most_rows)
      stream_.fail("a column has a number of rows that is none");
    nulls_ = node->nulls();
    return static_cast<std::uint64_t>(node->length());
  }
  void pass_buffers(std::int64_t count) {
    if (count < 0) stream_.fail("a batch has a number of buffers that is none");
    buffer_ += static_cast<std::uint64_t>(count);
  }
  std::int64_t next_variadic() {
    if (batch_.variadic_counts() == nullptr || variadic_ >= batch_.variadic_counts()->size())
      stream_.fail("a batch does not tell the number of its buffers");
    const std::int64_t count = batch_.variadic_counts()->Get(variadic_++);
    if (count < 0 || count > static_cast<std::int64_t>(most_rows))
      stream_.fail("a batch has a number of buffers that is none");
    return count;
  }

  void add_validity(ColumnView& view, std::uint64_t rows) {
    const std::string_view bits = next_validity(rows);
    if (!bits.empty()) view.validity_.push_back(bits);
  }
  // Empty where no value is null.
  std::string_view next_validity(std::uint64_t rows) {
    const std::string_view bits = next_buffer(0);
    if (bits.empty() && nulls_ > 0 && rows > 0) stream_.fail("a column has nulls, and does not tell which");
    if (!bits.empty() && bits.size() < (rows + 7) / 8) stream_.fail("a buffer is shorter than its column");
    return nulls_ == 0 || rows == 0 ? std::string_view() : bits;
  }

  // At least so many bytes.
  std::string_view next_buffer(std::uint64_t least) {
    if (batch_.buffers() == nullptr || buffer_ >= batch_.buffers()->size())
      stream_.fail("a batch has fewer buffers than its schema");
    const Buffer* const buffer = batch_.buffers()->Get(static_cast<flatbuffers::uoffset_t>(buffer_++));
    const auto offset = static_cast<std::uint64_t>(buffer->offset());
    const auto length = static_cast<std::uint64_t>(buffer->length());
    if (offset > body_->size() || length > body_->size() - offset) stream_.fail("a buffer lies outside of its message");
    std::string_view bytes = std::string_view(*body_).substr(offset, length);
    if (batch_.compression() != nullptr && !bytes.empty()) bytes = decompressed(bytes);
    if (bytes.size() < least) stream_.fail("a buffer is shorter than its column");
    return bytes;
  }

  // Behind its length, or as it is.
  std::string_view decompressed(std::string_view bytes) {
    if (bytes.size() < sizeof(std::int64_t)) stream_.fail("a compressed buffer has no length");
    const auto length = number_in<std::int64_t>(bytes, 0);
    bytes.remove_prefix(sizeof(length));
    if (length == -1) return bytes;
    if (length < 0 || static_cast<std::uint64_t>(length) > most_buffer_bytes)
      stream_.fail("a compressed buffer has a length that is none");
    auto out = std::make_shared<std::string>();
    const auto wanted = static_cast<std::uint64_t>(length);
    if (batch_.compression()->codec() == Codec_zstd) {
      const std::unique_ptr<ZSTD_DCtx, decltype(&ZSTD_freeDCtx)> context(ZSTD_createDCtx(), &ZSTD_freeDCtx);
      if (context == nullptr) throw std::bad_alloc();
      ZSTD_inBuffer in{bytes.data(), bytes.size(), 0};
      unpack(*out, wanted, [&](char* to, std::size_t room) {
        ZSTD_outBuffer part{to, room, 0};
        if (ZSTD_isError(ZSTD_decompressStream(context.get(), &part, &in)) != 0U)
          stream_.fail("a compressed buffer is damaged");
        return part.pos;
      });
    } else {
      LZ4F_dctx* raw = nullptr;
      if (LZ4F_isError(LZ4F_createDecompressionContext(&raw, LZ4F_VERSION)) != 0U) throw std::bad_alloc();
      const std::unique_ptr<LZ4F_dctx, decltype(&LZ4F_freeDecompressionContext)> context(
          raw, &LZ4F_freeDecompressionContext);
      std::size_t at = 0;
      unpack(*out, wanted, [&](char* to, std::size_t room) {
        std::size_t taken = bytes.size() - at;
        if (LZ4F_isError(LZ4F_decompress(context.get(), to, &room, bytes.data() + at, &taken, nullptr)) != 0U)
          stream_.fail("a compressed buffer is damaged");
        at += taken;
        return room;
      });
    }
    memory_.push_back(out);
    return *out;
  }

  // Memory is taken as bytes come, whatever is claimed.
  template <class More>
  void unpack(std::string& out, std::uint64_t wanted, const More& more) const {
    constexpr std::uint64_t step = std::uint64_t{1} << 20;
    while (out.size() < wanted) {
      const std::size_t had = out.size();
      out.resize(had + std::min(step, wanted - had));
      const std::size_t got = more(out.data() + had, out.size() - had);
      out.resize(had + got);
      if (got == 0) stream_.fail("a compressed buffer ends in the middle");
    }
  }

  const Stream& stream_;
  const RecordBatch& batch_;
  Bytes body_;
  const Dictionaries& dictionaries_;
  const std::vector<std::uint8_t>* wanted_ = nullptr;
  std::vector<Bytes> memory_{body_};
  std::vector<ColumnView> columns_;
  std::size_t leaf_ = 0;
  flatbuffers::uoffset_t node_ = 0;
  std::uint64_t buffer_ = 0;
  flatbuffers::uoffset_t variadic_ = 0;
  std::int64_t nulls_ = 0;
};

std::vector<ColumnView> read_batch(const Stream& stream, const Schema& schema, const RecordBatch& batch, Bytes body,
                                   const std::vector<std::uint8_t>& wanted, const Dictionaries& dictionaries) {
  BatchReader reader(stream, batch, std::move(body), dictionaries);
  reader.read(schema.fields(), wanted);
  return reader.take();
}

void read_dictionary(const Stream& stream, const Schema& schema, const DictionaryBatch& batch, Bytes body,
                     Dictionaries& dictionaries) {
  const Field* const field = field_of_dictionary(schema.fields(), batch.id());
  if (field == nullptr) return;  // of nothing that is there
  if (batch.data() == nullptr) stream.fail("a dictionary has no values");
  BatchReader reader(stream, *batch.data(), std::move(body), dictionaries);
  reader.read_values(*field);
  const std::vector<ColumnView> columns = reader.take();
  auto made = std::make_shared<Dictionary>();
  const auto before = dictionaries.find(batch.id());
  const auto add = [&](Cell cell) {
    cell.text = made->kept.keep(cell.text);
    made->cells.push_back(cell);
  };
  if (batch.is_delta() && before != dictionaries.end()) {
    for (const Cell& cell : before->second->cells) add(cell);
  }
  Cells scratch;
  for (std::int64_t row = 0; row < batch.data()->length(); ++row)
    add(columns[0].at(static_cast<std::uint64_t>(row), scratch));
  dictionaries[batch.id()] = std::move(made);
}

}  // namespace juniper::source::arrow
