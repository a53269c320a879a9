#include "source/parquet/metadata.h"

#include <thrift/protocol/TCompactProtocol.h>
#include <thrift/transport/TBufferTransports.h>

#include <memory>
#include <stdexcept>

namespace juniper::source::parquet {

namespace {

using apache::thrift::TConfiguration;
using apache::thrift::protocol::TCompactProtocolT;
using apache::thrift::protocol::TType;
using apache::thrift::transport::TMemoryBuffer;

// Fields of structures, by their numbers.
class Reader {
 public:
  explicit Reader(std::string_view bytes)
      : size_(bytes.size()),
        memory_(std::make_shared<TMemoryBuffer>(reinterpret_cast<std::uint8_t*>(const_cast<char*>(bytes.data())),
                                                static_cast<std::uint32_t>(bytes.size()), TMemoryBuffer::OBSERVE,
                                                std::make_shared<TConfiguration>(most_bytes, most_bytes))),
        protocol_(memory_, static_cast<std::int32_t>(bytes.size()), static_cast<std::int32_t>(bytes.size())) {}

  // Calls field(number, type) for each field of a structure; it reads the value and says so, or leaves it to be passed
  // over.
  template <class Field>
  void structure(const Field& field) {
    std::string name;
    protocol_.readStructBegin(name);
    while (true) {
      TType type = apache::thrift::protocol::T_STOP;
      std::int16_t number = 0;
      protocol_.readFieldBegin(name, type, number);
      if (type == apache::thrift::protocol::T_STOP) break;
      if (!field(number, type)) protocol_.skip(type);
      protocol_.readFieldEnd();
    }
    protocol_.readStructEnd();
  }

  template <class Element>
  void list(const Element& element) {
    TType type = apache::thrift::protocol::T_STOP;
    std::uint32_t count = 0;
    protocol_.readListBegin(type, count);
    for (std::uint32_t i = 0; i < count; ++i) element();
    protocol_.readListEnd();
  }

  std::int32_t int32() {
    std::int32_t number = 0;
    protocol_.readI32(number);
    return number;
  }
  std::int64_t int64() {
    std::int64_t number = 0;
    protocol_.readI64(number);
    return number;
  }
  std::int32_t int8() {
    std::int8_t number = 0;
    protocol_.readByte(number);
    return number;
  }
  bool boolean() {
    bool truth = false;
    protocol_.readBool(truth);
    return truth;
  }
  std::string text() {
    std::string bytes;
    protocol_.readBinary(bytes);
    return bytes;
  }

  std::size_t bytes_read() const { return size_ - memory_->available_read(); }

 private:
  static constexpr int most_bytes = 1 << 30;
  std::size_t size_;
  std::shared_ptr<TMemoryBuffer> memory_;
  TCompactProtocolT<TMemoryBuffer> protocol_;
};

template <class Enumeration>
Enumeration checked(std::int32_t number, std::int32_t last, const char* what) {
  if (number < 0 || number > last) throw std::runtime_error(std::string(what) + " that no version has");
  return static_cast<Enumeration>(number);
}

// The older way to say what values mean.
void set_converted(std::int32_t converted, SchemaElement& element) {
  switch (converted) {
    case 0:   // UTF8
    case 4:   // ENUM
    case 19:  // JSON
      element.meaning = Meaning::text;
      break;
    case 1:
    case 2:
      element.meaning = Meaning::map;
      break;
    case 3:
      element.meaning = Meaning::list;
      break;
    case 5:
      element.meaning = Meaning::decimal;
      break;
    case 6:
      element.meaning = Meaning::date;
      break;
    case 7:
    case 8:
      element.meaning = Meaning::time;
      element.unit = converted == 7 ? TimeUnit::milliseconds : TimeUnit::microseconds;
      break;
    case 9:
    case 10:
      element.meaning = Meaning::moment;
      element.unit = converted == 9 ? TimeUnit::milliseconds : TimeUnit::microseconds;
      break;
    case 11:
    case 12:
    case 13:
    case 14:
      element.meaning = Meaning::unsigned_number;
      element.bits = 8 << (converted - 11);
      break;
    case 15:
    case 16:
    case 17:
    case 18:
      element.meaning = Meaning::signed_number;
      element.bits = 8 << (converted - 15);
      break;
    case 21:
      element.meaning = Meaning::interval;
      break;
    default:  // a number that the standard may give a meaning later: the bytes as they are
      break;
  }
}

void read_unit(Reader& reader, SchemaElement& element) {
  reader.structure([&](std::int16_t number, TType) {
    if (number != 2) return false;
    reader.structure([&](std::int16_t unit, TType) {
      if (unit >= 1 && unit <= 3) element.unit = static_cast<TimeUnit>(unit - 1);
      return false;
    });
    return true;
  });
}

void read_logical(Reader& reader, SchemaElement& element) {
  reader.structure([&](std::int16_t number, TType) {
    switch (number) {
      case 1:   // STRING
      case 4:   // ENUM
      case 12:  // JSON
        element.meaning = Meaning::text;
        return false;
      case 2:
        element.meaning = Meaning::map;
        return false;
      case 3:
        element.meaning = Meaning::list;
        return false;
      case 5:
        element.meaning = Meaning::decimal;
        reader.structure([&](std::int16_t field, TType) {
          if (field != 1) return false;
          element.scale = reader.int32();
          return true;
        });
        return true;
      case 6:
        element.meaning = Meaning::date;
        return false;
      case 7:
      case 8:
        element.meaning = number == 7 ? Meaning::time : Meaning::moment;
        read_unit(reader, element);
        return true;
      case 10:
        reader.structure([&](std::int16_t field, TType) {
          if (field == 1) {
            element.bits = reader.int8();
          } else if (field == 2) {
            element.meaning = reader.boolean() ? Meaning::signed_number : Meaning::unsigned_number;
          } else {
            return false;
          }
          return true;
        });
        return true;
      case 11:
        element.meaning = Meaning::nothing;
        return false;
      case 14:
        element.meaning = Meaning::uuid;
        return false;
      case 15:
        element.meaning = Meaning::half_real;
        return false;
      default:
        return false;
    }
  });
}

SchemaElement read_element(Reader& reader) {
  SchemaElement element;
  bool has_logical = false;
  std::optional<std::int32_t> converted;
  reader.structure([&](std::int16_t number, TType) {
    switch (number) {
      case 1:
        element.type = checked<Physical>(reader.int32(), 7, "a type");
        return true;
      case 2:
        element.length = reader.int32();
        return true;
      case 3:
        element.repetition = reader.int32();
        return true;
      case 4:
        element.name = reader.text();
        return true;
      case 5:
        element.children = reader.int32();
        return true;
      case 6:
        converted = reader.int32();
        return true;
      case 7:
        element.scale = reader.int32();
        return true;
      case 10:
        has_logical = true;
        read_logical(reader, element);
        return true;
      default:
        return false;
    }
  });
  if (!has_logical && converted) set_converted(*converted, element);
  return element;
}

ColumnChunk read_chunk(Reader& reader) {
  ColumnChunk chunk;
  bool has_data = false;
  reader.structure([&](std::int16_t number, TType) {
    if (number == 1) {
      chunk.is_elsewhere = !reader.text().empty();
      return true;
    }
    if (number == 8) chunk.is_encrypted = true;
    if (number != 3) return false;
    has_data = true;
    reader.structure([&](std::int16_t field, TType) {
      switch (field) {
        case 4:
          chunk.codec = checked<Codec>(reader.int32(), 7, "a compression");
          return true;
        case 5:
          chunk.values = reader.int64();
          return true;
        case 7:
          chunk.bytes = reader.int64();
          return true;
        case 9:
          chunk.first_page = reader.int64();
          return true;
        case 11:
          chunk.dictionary_page = reader.int64();
          return true;
        default:
          return false;
      }
    });
    return true;
  });
  if (!has_data && !chunk.is_encrypted) throw std::runtime_error("a column without a description of its data");
  return chunk;
}

RowGroup read_group(Reader& reader) {
  RowGroup group;
  reader.structure([&](std::int16_t number, TType) {
    if (number == 1) {
      reader.list([&] { group.columns.push_back(read_chunk(reader)); });
    } else if (number == 3) {
      group.rows = reader.int64();
    } else {
      return false;
    }
    return true;
  });
  return group;
}

void read_data_head(Reader& reader, PageHead& head) {
  reader.structure([&](std::int16_t number, TType) {
    if (number == 1) {
      head.values = reader.int32();
    } else if (number == 2) {
      head.encoding = checked<Encoding>(reader.int32(), 9, "an encoding");
    } else if (number == 3) {
      head.level_encoding = checked<Encoding>(reader.int32(), 9, "an encoding");
    } else {
      return false;
    }
    return true;
  });
}

void read_dictionary_head(Reader& reader, PageHead& head) {
  reader.structure([&](std::int16_t number, TType) {
    if (number == 1) {
      head.values = reader.int32();
    } else if (number == 2) {
      head.encoding = checked<Encoding>(reader.int32(), 9, "an encoding");
    } else {
      return false;
    }
    return true;
  });
}

void read_data_head_v2(Reader& reader, PageHead& head) {
  reader.structure([&](std::int16_t number, TType) {
    switch (number) {
      case 1:
        head.values = reader.int32();
        return true;
      case 4:
        head.encoding = checked<Encoding>(reader.int32(), 9, "an encoding");
        return true;
      case 5:
        head.definition_bytes = reader.int32();
        return true;
      case 6:
        head.repetition_bytes = reader.int32();
        return true;
      case 7:
        head.is_compressed = reader.boolean();
        return true;
      default:
        return false;
    }
  });
}

}  // namespace

FileData read_file_data(std::string_view bytes) {
  Reader reader(bytes);
  FileData file;
  reader.structure([&](std::int16_t number, TType) {
    switch (number) {
      case 2:
        reader.list([&] { file.schema.push_back(read_element(reader)); });
        return true;
      case 3:
        file.rows = reader.int64();
        return true;
      case 4:
        reader.list([&] { file.groups.push_back(read_group(reader)); });
        return true;
      case 8:
        file.is_encrypted = true;
        return false;
      default:
        return false;
    }
  });
  return file;
}

PageHead read_page_head(std::string_view bytes) {
  Reader reader(bytes);
  PageHead head;
  reader.structure([&](std::int16_t number, TType) {
    switch (number) {
      case 1:
        head.type = checked<PageType>(reader.int32(), 3, "a page type");
        return true;
      case 2:
        head.bytes_unpacked = reader.int32();
        return true;
      case 3:
        head.bytes = reader.int32();
        return true;
      case 4:
        head.sum = static_cast<std::uint32_t>(reader.int32());
        return true;
      case 5:
        read_data_head(reader, head);
        return true;
      case 7:
        read_dictionary_head(reader, head);
        return true;
      case 8:
        read_data_head_v2(reader, head);
        return true;
      default:
        return false;
    }
  });
  head.head_bytes = reader.bytes_read();
  return head;
}

}  // namespace juniper::source::parquet
