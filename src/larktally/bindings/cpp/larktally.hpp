// larktally.hpp: makes a game in C++17 a subject that larktally records, replays and judges. One file, no dependencies,
// POSIX; under the licence of Lark Tally. How it is used: docs/programs.md, and game.cpp beside this file.
#ifndef LARKTALLY_HPP
#define LARKTALLY_HPP

#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <sys/socket.h>
#include <unistd.h>

#include <cerrno>
#include <charconv>
#include <cmath>
#include <csignal>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <deque>
#include <fstream>
#include <functional>
#include <initializer_list>
#include <map>
#include <stdexcept>
#include <string>
#include <type_traits>
#include <utility>
#include <vector>

namespace larktally {

// What a run is made from: frames per second, as a number and as the exact fraction, and the seed of its random numbers.
struct Start {
    double rate = 60;
    std::string exact_rate = "60";
    long long seed = 0;
};

namespace detail {

inline void write_text(std::string &out, const std::string &text) {
    static const char *digits = "0123456789abcdef";
    out += '"';
    for (unsigned char one : text) {
        if (one == '"' || one == '\\') (out += '\\') += static_cast<char>(one);
        else if (one < 0x20) ((out += "\\u00") += digits[one >> 4]) += digits[one & 15];
        else out += static_cast<char>(one);
    }
    out += '"';
}

inline void write_whole(std::string &out, long long value) {
    char text[32];
    out.append(text, std::to_chars(text, text + sizeof text, value).ptr);
}

// The shortest text that reads back to the same bits, whatever the locale; JSON has no number for nan and inf.
inline void write_number(std::string &out, double value) {
    if (std::isnan(value)) out += "\"nan\"";
    else if (std::isinf(value)) out += value < 0 ? "\"-inf\"" : "\"inf\"";
    else {
        char text[64];
        out.append(text, std::to_chars(text, text + sizeof text, value).ptr);
    }
}

inline void write_little_endian(std::string &out, std::uint64_t bits, int bytes) {
    char text[8];
    for (int n = 0; n < bytes; n++) text[n] = static_cast<char>(bits >> (8 * n));
    out.append(text, static_cast<std::size_t>(bytes));
}

// A request that is refused, with the code of JSON-RPC 2.0 that says why.
struct Refusal : std::runtime_error {
    Refusal(int code_, const std::string &message) : std::runtime_error(message), code(code_) {}
    int code;
};

// One value of JSON.
struct Json {
    enum Kind { null, boolean, number, text, list, object } kind = null;
    bool truth = false, whole = false;
    double value = 0;
    std::string string;
    std::vector<Json> items;
    // A list of numbers, which inputs are: they stand here, and not in the items.
    std::vector<double> numbers;
    std::vector<std::pair<std::string, Json>> members;

    const Json *get(const std::string &key) const {
        for (const auto &member : members)
            if (member.first == key) return &member.second;
        return nullptr;
    }
    std::string as_text() const { return kind == text ? string : ""; }
};

// Reads one line of JSON; throws Refusal(-32700) for what is none. No deeper than 64, so that no line brings it down.
class Reader {
  public:
    explicit Reader(const std::string &line) : at_(line.data()), end_(line.data() + line.size()) {}
    Json whole() {
        Json found = value(0);
        blank();
        if (at_ != end_) fail();
        return found;
    }

  private:
    const char *at_, *end_;

    [[noreturn]] static void fail() { throw Refusal(-32700, "not JSON"); }
    void blank() {
        while (at_ != end_ && std::strchr(" \t\r\n", *at_) && *at_) at_++;
    }
    char next() {
        blank();
        if (at_ == end_) fail();
        return *at_;
    }
    void expect(const char *word) {
        std::size_t length = std::strlen(word);
        if (static_cast<std::size_t>(end_ - at_) < length || std::memcmp(at_, word, length) != 0) fail();
        at_ += length;
    }
    Json value(int depth) {
        Json found;
        if (depth > 64) fail();
        switch (next()) {
            case '{': read_object(found, depth); break;
            case '[': read_list(found, depth); break;
            case '"': found.kind = Json::text, found.string = read_text(); break;
            case 't': expect("true"), found.kind = Json::boolean, found.truth = true; break;
            case 'f': expect("false"), found.kind = Json::boolean; break;
            case 'n': expect("null"); break;
            default: read_number(found);
        }
        return found;
    }
    void read_object(Json &found, int depth) {
        found.kind = Json::object;
        at_++;
        if (next() == '}') return void(at_++);
        for (;;) {
            if (next() != '"') fail();
            std::string key = read_text();
            if (next() != ':') fail();
            at_++;
            found.members.emplace_back(std::move(key), value(depth + 1));
            char after = next();
            at_++;
            if (after == '}') return;
            if (after != ',') fail();
        }
    }
    void read_list(Json &found, int depth) {
        found.kind = Json::list;
        at_++;
        if (next() == ']') return void(at_++);
        for (;;) {
            next();
            if (found.items.empty() && (*at_ == '-' || (*at_ >= '0' && *at_ <= '9'))) found.numbers.push_back(read_double());
            else found.items.push_back(value(depth + 1));
            char after = next();
            at_++;
            if (after == ']') return;
            if (after != ',') fail();
        }
    }
    double read_double() {
        double found = 0;
        auto read = std::from_chars(at_, end_, found);
        if (read.ec != std::errc() || read.ptr == at_) fail();
        at_ = read.ptr;
        return found;
    }
    void read_number(Json &found) {
        found.kind = Json::number;
        found.value = read_double();
        found.whole = found.value == std::floor(found.value);
    }
    unsigned read_hex() {
        unsigned code = 0;
        for (int n = 0; n < 4; n++) {
            if (at_ == end_ || !std::isxdigit(static_cast<unsigned char>(*at_))) fail();
            char one = *at_++;
            code = code * 16 + static_cast<unsigned>(one <= '9' ? one - '0' : (one | 32) - 'a' + 10);
        }
        return code;
    }
    std::string read_text() {
        std::string found;
        for (at_++; at_ != end_ && *at_ != '"';) {
            if (*at_ != '\\') {
                found += *at_++;
                continue;
            }
            if (++at_ == end_) fail();
            static const char *escapes = "bfnrt", *meant = "\b\f\n\r\t";
            char one = *at_++;
            if (one == 'u') read_escaped(found);
            else if (const char *place = std::strchr(escapes, one)) found += meant[place - escapes];
            else found += one;
        }
        if (at_ == end_) fail();
        at_++;
        return found;
    }
    void read_escaped(std::string &found) {
        unsigned code = read_hex();
        if (code >= 0xd800 && code < 0xdc00 && end_ - at_ >= 6 && at_[0] == '\\' && at_[1] == 'u') {
            at_ += 2;
            code = 0x10000 + ((code - 0xd800) << 10) + (read_hex() - 0xdc00);
        }
        if (code < 0x80) found += static_cast<char>(code);
        else if (code < 0x800) (found += static_cast<char>(0xc0 | code >> 6)) += static_cast<char>(0x80 | (code & 63));
        else if (code < 0x10000)
            ((found += static_cast<char>(0xe0 | code >> 12)) += static_cast<char>(0x80 | ((code >> 6) & 63))) +=
                static_cast<char>(0x80 | (code & 63));
        else
            (((found += static_cast<char>(0xf0 | code >> 18)) += static_cast<char>(0x80 | ((code >> 12) & 63))) +=
             static_cast<char>(0x80 | ((code >> 6) & 63))) += static_cast<char>(0x80 | (code & 63));
    }
};

// Lines in, lines and bytes out, over two descriptors.
class Wire {
  public:
    Wire() = default;
    Wire(int in, int out) : in_(in), out_(out) {}
    bool open() const { return in_ >= 0; }
    bool line(std::string &found) {
        for (;;) {
            std::size_t end = held_.find('\n', looked_);
            if (end != std::string::npos) {
                found.assign(held_, 0, end);
                held_.erase(0, end + 1);
                looked_ = 0;
                return true;
            }
            looked_ = held_.size();
            char chunk[65536];
            ssize_t count = ::read(in_, chunk, sizeof chunk);
            if (count < 0 && errno == EINTR) continue;
            if (count <= 0) return false;
            held_.append(chunk, static_cast<std::size_t>(count));
        }
    }
    bool send(const std::string &bytes) {
        for (std::size_t sent = 0; sent < bytes.size();) {
            ssize_t count = ::write(out_, bytes.data() + sent, bytes.size() - sent);
            if (count < 0 && errno == EINTR) continue;
            if (count <= 0) return false;
            sent += static_cast<std::size_t>(count);
        }
        return true;
    }

  private:
    int in_ = -1, out_ = -1;
    std::string held_;
    std::size_t looked_ = 0;
};

inline std::string environment(const char *name) {
    const char *found = std::getenv(name);
    return found ? found : "";
}

}  // namespace detail

// A plain value of an event's data, as JSON.
class Plain {
  public:
    Plain(bool value) : told(value ? "true" : "false") {}
    Plain(const char *value) { detail::write_text(told, value); }
    Plain(const std::string &value) { detail::write_text(told, value); }
    template <typename T, std::enable_if_t<std::is_arithmetic_v<T> && !std::is_same_v<T, bool>, int> = 0>
    Plain(T value) {
        if constexpr (std::is_integral_v<T>) detail::write_whole(told, static_cast<long long>(value));
        else detail::write_number(told, static_cast<double>(value));
    }
    std::string told;
};
using Data = std::initializer_list<std::pair<const char *, Plain>>;

// A game as a subject. Bind what is to be recorded, say what it takes, and hand over each frame: with serve(), which calls the
// game, or with tick(), which a host calls that owns its loop.
class Subject {
  public:
    Subject(std::string name, std::string version) : name_(std::move(name)), version_(std::move(version)) {}

    // A channel that is a variable, a field of an object, or what a function returns: bool is a flag, a whole number a count,
    // a floating one a number; with labels a whole number or an enum is the place of its label.
    template <typename T, std::enable_if_t<!std::is_invocable_v<T>, int> = 0>
    Subject &bind(const std::string &name, T *variable, std::vector<std::string> labels = {}) {
        bind_getter(name, [variable] { return *variable; }, std::move(labels));
        return keep(variable);
    }
    template <typename Owner, typename T>
    Subject &bind(const std::string &name, Owner *object, T Owner::*field, std::vector<std::string> labels = {}) {
        return bind(name, &(object->*field), std::move(labels));
    }
    template <typename F, std::enable_if_t<std::is_invocable_v<F>, int> = 0>
    Subject &bind(const std::string &name, F getter, std::vector<std::string> labels = {}) {
        return bind_getter(name, std::move(getter), std::move(labels));
    }
    // A channel is an angle: what a whole turn is.
    Subject &wraps(const std::string &name, double turn) {
        for (Channel &one : channels_)
            if (one.name == name) one.wraps = turn;
        return *this;
    }
    // State that is no channel, for saved_as_bound().
    template <typename T>
    Subject &keep(T *variable) {
        kept_.push_back({[variable](std::string &out) { write_kept(out, *variable); },
                         [variable](const std::string &text) { read_kept(text, *variable); }});
        return *this;
    }

    Subject &action(const std::string &name) { return add_action(name, false); }
    Subject &analog(const std::string &name) { return add_action(name, true); }
    Subject &event(const std::string &name) { return events_.push_back(name), *this; }
    Subject &rates(std::vector<std::string> accepted) { return rates_ = std::move(accepted), *this; }
    // A variable that a run may set; its default is what stands there now. It is set before and after a reset, so that it lasts.
    template <typename T>
    Subject &param(const std::string &name, T *variable, double least = NAN, double most = NAN) {
        T default_value = *variable;
        std::string told = "{\"name\":";
        detail::write_text(told, name);
        told += ",\"default\":";
        if constexpr (std::is_same_v<T, std::string>) detail::write_text(told, default_value);
        else if constexpr (std::is_same_v<T, bool>) told += default_value ? "true" : "false";
        else if constexpr (std::is_integral_v<T>) detail::write_whole(told, default_value);
        else detail::write_number(told, default_value);
        if (!std::isnan(least)) detail::write_number(told += ",\"least\":", least);
        if (!std::isnan(most)) detail::write_number(told += ",\"most\":", most);
        params_.push_back({name, told + "}", [variable, default_value](const detail::Json *given) {
                               *variable = default_value;
                               if (!given) return;
                               if constexpr (std::is_same_v<T, std::string>) *variable = given->string;
                               else if constexpr (std::is_same_v<T, bool>) *variable = given->truth;
                               else *variable = static_cast<T>(given->value);
                           }});
        return *this;
    }

    // Back to the beginning, whatever was before.
    Subject &on_reset(std::function<void(const Start &)> reset) { return reset_ = std::move(reset), *this; }
    // What was bound and kept is all of the state: it is saved and put back.
    Subject &saved_as_bound() { return saves_ = true, *this; }
    // The game's own functions save its state as text, and put it back.
    Subject &on_save(std::function<std::string()> save, std::function<void(const std::string &)> load) {
        saves_ = true, save_ = std::move(save), load_ = std::move(load);
        return *this;
    }

    // In a frame: what is held, by how much, whether it is held since this frame; what happened, and why a value is what it is.
    double value(const std::string &action) const { return inputs_[index_of(action)]; }
    bool held(const std::string &action) const { return std::fabs(value(action)) >= 0.5; }
    bool pressed(const std::string &action) const { return held(action) && std::fabs(before_[index_of(action)]) < 0.5; }
    long long frame() const { return frame_; }
    void emit(const std::string &name, const std::string &source = "", Data data = {}) {
        // Nobody asks for the events of a game that is only played.
        if (!wire_.open() && !ring_most_ && live_ < 0) return;
        std::string told;
        detail::write_text(told, name);
        detail::write_text(told += ',', source);
        told += ",{";
        for (const auto &one : data) {
            if (told.back() != '{') told += ',';
            detail::write_text(told, one.first);
            (told += ':') += one.second.told;
        }
        append(emitted_, (wire_.open() ? "[" + std::to_string(frame_) + "," : "[") + told + "}]");
    }
    void note(const std::string &channel, const std::string &text) {
        if (!wire_.open()) return;
        std::string told = "[";
        detail::write_whole(told, frame_);
        detail::write_text(told += ',', channel);
        detail::write_text(told += ',', text);
        append(notes_, told + "]");
    }

    // Speaks over standard input and output, or over the port in LARKTALLY_PORT, and calls `step` for each frame, until it is
    // asked to end. What the game prints on standard output meanwhile goes to standard error.
    int serve(const std::function<void()> &step) {
        if (!connect()) take_standard_output();
        while (tick()) {
            try {
                step();
            } catch (const std::exception &error) {
                fail(error.what());
            }
        }
        return 0;
    }
    // Connects to the port in LARKTALLY_PORT; false where there is none, and the game is played as always.
    bool connect() {
        std::string port = detail::environment("LARKTALLY_PORT");
        if (port.empty()) return false;
        ::signal(SIGPIPE, SIG_IGN);
        int made = connected_to(std::atoi(port.c_str()));
        if (made < 0) throw std::runtime_error("nothing listens on port " + port + " of this machine");
        wire_ = detail::Wire(made, made);
        return true;
    }
    // One call a tick, before the game's own step: it takes the row that the tick before left, and waits until a frame is
    // wanted. False when the run is over.
    bool tick() {
        if (left_ > 0) {
            take_row();
            if (--left_ == 0) answer_step();
        }
        std::string line;
        while (left_ == 0) {
            if (ended_ || !wire_.line(line)) return false;
            take(line);
        }
        std::size_t k = static_cast<std::size_t>(asked_ - left_);
        std::vector<double> now(actions_.size());
        for (std::size_t n = 0; n < now.size(); n++) now[n] = wanted_[n].empty() ? 0.0 : wanted_[n][k];
        begin_frame(std::move(now));
        return true;
    }
    // What went wrong in this frame; the run ends with it, and goes no further.
    void fail(const std::string &message) { failed_ = message; }

    // Keeps the last seconds of a game that is played, for reports. Call `played` once in each tick, after the step, with what
    // each action is at, in the order in which they were announced; and `write_report` when a tester asks for it.
    Subject &keep_last(double seconds, double rate) {
        ring_most_ = static_cast<std::size_t>(std::ceil(seconds * rate)) + 1;
        ring_rate_ = rate;
        return *this;
    }
    void played(const std::vector<double> &inputs) {
        if (!ring_most_ && live_ < 0) return;
        Played row;
        write_row(row.channels);
        for (std::size_t n = 0; n < actions_.size(); n++) {
            detail::write_text(row.inputs += n ? "," : "", actions_[n].first);
            detail::write_number(row.inputs += ':', n < inputs.size() ? inputs[n] : 0.0);
        }
        row.events.swap(emitted_);
        if (live_ >= 0)
            say_live("{\"jsonrpc\":\"2.0\",\"method\":\"row\",\"params\":{\"row\":{" + row.channels + "},\"inputs\":{" + row.inputs +
                     "},\"events\":[" + row.events + "]}}\n");
        ring_.push_back(std::move(row));
        if (ring_.size() > ring_most_) ring_.pop_front();
        frame_++;
    }
    // Shows the game that is played to `larktally watch --listen PORT`, with each call of `played`; false where nothing listens. The
    // game never waits for it.
    bool show_to(int port, double rate) {
        ::signal(SIGPIPE, SIG_IGN);
        live_ = connected_to(port);
        if (live_ < 0) return false;
        ::fcntl(live_, F_SETFL, O_NONBLOCK);
        std::string told = about();
        detail::write_number(told += ",\"rate\":\"", rate);
        say_live("{\"jsonrpc\":\"2.0\",\"method\":\"live\",\"params\":" + told + "\"}}\n");
        return live_ >= 0;
    }
    // The frames that are kept as a trace, JSON Lines, that every command of larktally reads; false where it cannot be written.
    bool write_report(const std::string &path) const {
        std::ofstream out(path, std::ios::binary);
        std::string header = "{\"larktally\":1,\"rate\":\"";
        detail::write_number(header, ring_rate_);
        header += "\",\"subject\":";
        detail::write_text(header, name_ + ", the frames before " + std::to_string(frame_));
        header += ",\"channels\":[" + channels_told() + "],\"inputs\":[" + names_of_actions() + "],\"actions\":[" +
                  names_of_actions() + "],\"events\":[" + listed(events_) + "]}\n";
        out << header;
        std::size_t k = 0;
        for (const Played &row : ring_) {
            out << "{\"frame\":" << k << ",\"set\":{" << row.channels << "}";
            // No step made row 0, so that it has no inputs.
            if (k++) out << ",\"input\":{" << row.inputs << "}";
            out << ",\"events\":[" << row.events << "]}\n";
        }
        out << "{\"rows\":" << k << "}\n";
        return static_cast<bool>(out.flush());
    }

  private:
    struct Channel {
        std::string name, kind;
        std::vector<std::string> labels;
        double wraps;
        // As JSON, and as bytes: 8 of a number or a count, 1 of a flag, 2 of a label's place.
        std::function<void(std::string &, bool)> write;
    };
    struct Kept {
        std::function<void(std::string &)> write;
        std::function<void(const std::string &)> read;
    };
    // A row of the ring, as JSON.
    struct Played {
        std::string channels, inputs, events;
    };
    struct Param {
        std::string name, told;
        std::function<void(const detail::Json *)> set;
    };

    std::string name_, version_, failed_;
    std::vector<Channel> channels_;
    std::vector<Kept> kept_;
    std::vector<Param> params_;
    std::vector<std::pair<std::string, bool>> actions_;
    std::map<std::string, std::size_t> places_;
    std::vector<std::string> events_, rates_;
    std::function<void(const Start &)> reset_;
    std::function<std::string()> save_;
    std::function<void(const std::string &)> load_;
    bool saves_ = false, running_ = false, ended_ = false, binary_ = false;
    detail::Wire wire_;
    // The request that is being answered: its id, its frames, how many are left, and the inputs of each action.
    std::string id_ = "null";
    long long frame_ = 0, asked_ = 0, left_ = 0;
    std::vector<std::vector<double>> wanted_;
    std::vector<double> inputs_, before_;
    std::vector<std::string> columns_;
    std::string emitted_, notes_;
    std::deque<Played> ring_;
    std::size_t ring_most_ = 0;
    double ring_rate_ = 60;
    int live_ = -1;
    std::string waiting_;

    template <typename F>
    Subject &bind_getter(const std::string &name, F getter, std::vector<std::string> labels) {
        using T = std::decay_t<decltype(getter())>;
        Channel made{name, "count", labels, NAN, {}};
        if (!labels.empty()) {
            made.kind = "label";
            made.write = [getter, labels, name](std::string &out, bool binary) {
                auto place = static_cast<std::size_t>(getter());
                if (place >= labels.size())
                    throw std::runtime_error("channel " + name + " is at label " + std::to_string(place) + " of " +
                                             std::to_string(labels.size()));
                if (binary) detail::write_little_endian(out, place, 2);
                else detail::write_text(out, labels[place]);
            };
        } else if constexpr (std::is_same_v<T, bool>) {
            made.kind = "flag";
            made.write = [getter](std::string &out, bool binary) {
                if (binary) out += static_cast<char>(getter() ? 1 : 0);
                else out += getter() ? "true" : "false";
            };
        } else if constexpr (std::is_floating_point_v<T>) {
            made.kind = "number";
            made.write = [getter](std::string &out, bool binary) {
                double value = static_cast<double>(getter());
                std::uint64_t bits;
                std::memcpy(&bits, &value, sizeof bits);
                if (binary) detail::write_little_endian(out, bits, 8);
                else detail::write_number(out, value);
            };
        } else {
            made.write = [getter](std::string &out, bool binary) {
                auto value = static_cast<long long>(getter());
                if (binary) detail::write_little_endian(out, static_cast<std::uint64_t>(value), 8);
                else detail::write_whole(out, value);
            };
        }
        channels_.push_back(std::move(made));
        return *this;
    }
    Subject &add_action(const std::string &name, bool analog) {
        places_[name] = actions_.size();
        actions_.emplace_back(name, analog);
        inputs_.push_back(0), before_.push_back(0);
        return *this;
    }
    std::size_t index_of(const std::string &action) const {
        auto found = places_.find(action);
        if (found == places_.end()) throw std::out_of_range("no action '" + action + "' was announced");
        return found->second;
    }
    static void append(std::string &list, const std::string &item) {
        if (!list.empty()) list += ',';
        list += item;
    }
    template <typename T>
    static void write_kept(std::string &out, const T &value) {
        if constexpr (std::is_floating_point_v<T>) detail::write_number(out, static_cast<double>(value));
        else detail::write_whole(out, static_cast<long long>(value));
    }
    template <typename T>
    static void read_kept(const std::string &text, T &value) {
        if constexpr (std::is_floating_point_v<T>) {
            double found = text == "\"nan\"" ? NAN : text == "\"inf\"" ? INFINITY : text == "\"-inf\"" ? -INFINITY : 0;
            std::from_chars(text.data(), text.data() + text.size(), found);
            value = static_cast<T>(found);
        } else {
            long long found = 0;
            std::from_chars(text.data(), text.data() + text.size(), found);
            value = static_cast<T>(found);
        }
    }
    static int connected_to(int port) {
        int one = 1, made = ::socket(AF_INET, SOCK_STREAM, 0);
        sockaddr_in address{};
        address.sin_family = AF_INET;
        address.sin_port = htons(static_cast<std::uint16_t>(port));
        address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        if (made >= 0 && ::connect(made, reinterpret_cast<sockaddr *>(&address), sizeof address) != 0) {
            ::close(made);
            return -1;
        }
        if (made >= 0) ::setsockopt(made, IPPROTO_TCP, TCP_NODELAY, &one, sizeof one);
        return made;
    }
    // What the other side does not take yet waits; one that takes nothing for long is let go of.
    void say_live(const std::string &line) {
        waiting_ += line;
        ssize_t count = ::write(live_, waiting_.data(), waiting_.size());
        if (count > 0) waiting_.erase(0, static_cast<std::size_t>(count));
        bool gone = count < 0 && errno != EAGAIN && errno != EWOULDBLOCK && errno != EINTR;
        if (!gone && waiting_.size() < std::size_t{16} << 20) return;
        ::close(live_);
        live_ = -1;
        waiting_.clear();
    }
    void take_standard_output() {
        int out = ::dup(1);
        std::fflush(stdout);
        ::dup2(2, 1);
        ::signal(SIGPIPE, SIG_IGN);
        wire_ = detail::Wire(0, out);
    }
    void begin_frame(std::vector<double> now) {
        before_ = std::move(inputs_);
        inputs_ = std::move(now);
        frame_++;
    }

    void take(const std::string &line) {
        id_ = "null";
        try {
            detail::Json request = detail::Reader(line).whole();
            const detail::Json *id = request.get("id"), *method = request.get("method"), *params = request.get("params");
            if (id && id->kind == detail::Json::number) detail::write_whole(id_ = "", static_cast<long long>(id->value));
            else if (id && id->kind == detail::Json::text) detail::write_text(id_ = "", id->string);
            if (!method || method->kind != detail::Json::text) throw detail::Refusal(-32600, "no method");
            static const detail::Json none;
            do_method(method->string, params ? *params : none);
        } catch (const detail::Refusal &refusal) {
            refuse(refusal.code, refusal.what(), false);
        } catch (const std::exception &error) {
            refuse(-32000, error.what(), false);
        }
    }
    void do_method(const std::string &method, const detail::Json &params) {
        if (method == "hello") hello(params);
        else if (method == "reset") reset(params);
        else if (method == "step") begin_step(params);
        else if (method == "save") save();
        else if (method == "load") load(params);
        else if (method == "end") answer("{}"), ended_ = true;
        else throw detail::Refusal(-32601, "no method " + method);
    }
    void answer(const std::string &result, const std::string &bytes = "") {
        if (!wire_.send("{\"jsonrpc\":\"2.0\",\"id\":" + id_ + ",\"result\":" + result + "}\n" + bytes)) ended_ = true;
    }
    void refuse(int code, const std::string &message, bool in_frame) {
        std::string told = "{\"jsonrpc\":\"2.0\",\"id\":" + id_ + ",\"error\":{\"code\":" + std::to_string(code) + ",\"message\":";
        detail::write_text(told, message);
        if (in_frame) told += ",\"data\":{\"frame\":" + std::to_string(frame_) + "}";
        if (!wire_.send(told + "}}\n")) ended_ = true;
    }

    std::string channels_told() const {
        std::string told;
        for (const Channel &one : channels_) {
            detail::write_text(told += told.empty() ? "{\"name\":" : ",{\"name\":", one.name);
            told += ",\"kind\":\"" + one.kind + "\"";
            if (!one.labels.empty()) told += ",\"labels\":[" + listed(one.labels) + "]";
            if (!std::isnan(one.wraps)) detail::write_number(told += ",\"wraps\":", one.wraps);
            told += '}';
        }
        return told;
    }
    static std::string listed(const std::vector<std::string> &texts) {
        std::string told;
        for (const std::string &one : texts) detail::write_text(told += told.empty() ? "" : ",", one);
        return told;
    }
    std::string names_of_actions() const {
        std::vector<std::string> names;
        for (const auto &one : actions_) names.push_back(one.first);
        return listed(names);
    }
    void hello(const detail::Json &params) {
        const detail::Json *columns = params.get("columns");
        binary_ = false;
        if (columns)
            for (const detail::Json &one : columns->items) binary_ = binary_ || one.as_text() == "binary";
        std::string told = about();
        if (binary_) told += ",\"columns\":\"binary\"";
        std::string token = detail::environment("LARKTALLY_TOKEN");
        if (!token.empty()) detail::write_text(told += ",\"token\":", token);
        answer(told + "}");
    }
    // What it says of itself, but for the end of the object.
    std::string about() const {
        std::string told = "{\"protocol\":1,\"name\":";
        detail::write_text(told, name_);
        detail::write_text(told += ",\"version\":", version_);
        told += ",\"channels\":[" + channels_told() + "],\"actions\":[";
        for (std::size_t n = 0; n < actions_.size(); n++) {
            detail::write_text(told += n ? ",{\"name\":" : "{\"name\":", actions_[n].first);
            told += actions_[n].second ? ",\"analog\":true}" : "}";
        }
        told += "],\"events\":[" + listed(events_) + "],\"rates\":[" + listed(rates_) + "],\"params\":[";
        for (std::size_t n = 0; n < params_.size(); n++) told += (n ? "," : "") + params_[n].told;
        return told + (saves_ ? "],\"saves\":true" : "],\"saves\":false");
    }
    void write_row(std::string &out) const {
        for (std::size_t n = 0; n < channels_.size(); n++) {
            detail::write_text(out += n ? "," : "", channels_[n].name);
            channels_[n].write(out += ':', false);
        }
    }
    void set_params(const detail::Json *given) {
        for (const Param &one : params_) one.set(given ? given->get(one.name) : nullptr);
    }
    void reset(const detail::Json &params) {
        Start start;
        if (const detail::Json *rate = params.get("rate")) start.exact_rate = rate->as_text();
        double over = std::strtod(start.exact_rate.c_str(), nullptr), under = 1;
        if (std::size_t slash = start.exact_rate.find('/'); slash != std::string::npos)
            under = std::strtod(start.exact_rate.c_str() + slash + 1, nullptr);
        if (!(over > 0 && under > 0)) throw detail::Refusal(-32602, "reset takes a rate");
        start.rate = over / under;
        if (const detail::Json *seed = params.get("seed")) start.seed = static_cast<long long>(seed->value);
        frame_ = 0, running_ = true;
        emitted_.clear(), notes_.clear(), failed_.clear();
        before_.assign(actions_.size(), 0.0), inputs_ = before_;
        set_params(params.get("params"));
        if (reset_) reset_(start);
        set_params(params.get("params"));
        std::string told = "{\"row\":{";
        write_row(told);
        answer(told + "},\"events\":[" + emitted_ + "]" + noted() + "}");
        emitted_.clear(), notes_.clear();
    }
    void begin_step(const detail::Json &params) {
        const detail::Json *frames = params.get("frames"), *inputs = params.get("inputs");
        if (!running_) throw detail::Refusal(-32600, "reset comes before step");
        if (!frames || !frames->whole || frames->kind != detail::Json::number || frames->value < 0 || frames->value > 65536)
            throw detail::Refusal(-32602, "frames is a whole number from 0 to 65536");
        if (!inputs || inputs->kind != detail::Json::object) throw detail::Refusal(-32602, "inputs is an object of lists");
        auto count = static_cast<std::size_t>(frames->value);
        std::vector<std::vector<double>> wanted(actions_.size());
        for (const auto &member : inputs->members) {
            auto place = places_.find(member.first);
            if (place == places_.end()) throw detail::Refusal(-32602, "no action " + member.first);
            if (member.second.numbers.size() != count || !member.second.items.empty())
                throw detail::Refusal(-32602, "an input has a value for each frame");
            wanted[place->second] = member.second.numbers;
        }
        wanted_ = std::move(wanted);
        asked_ = left_ = static_cast<long long>(count);
        columns_.assign(channels_.size(), "");
        if (count == 0) answer_step();
    }
    void take_row() {
        try {
            if (!failed_.empty()) throw std::runtime_error(failed_);
            for (std::size_t n = 0; n < channels_.size(); n++) {
                if (!binary_ && !columns_[n].empty()) columns_[n] += ',';
                channels_[n].write(columns_[n], binary_);
            }
        } catch (const std::exception &error) {
            refuse(-32000, error.what(), true);
            left_ = 1, running_ = false, asked_ = -1;
        }
    }
    std::string noted() const { return notes_.empty() ? "" : ",\"notes\":[" + notes_ + "]"; }
    void answer_step() {
        // What failed is answered already.
        if (asked_ < 0) return;
        std::string told = "{\"events\":[" + emitted_ + "]" + noted(), bytes;
        if (binary_) {
            for (const std::string &one : columns_) bytes += one;
            told += ",\"bytes\":" + std::to_string(bytes.size());
        } else {
            told += ",\"columns\":{";
            for (std::size_t n = 0; n < channels_.size(); n++) {
                detail::write_text(told += n ? "," : "", channels_[n].name);
                told += ":[" + columns_[n] + "]";
            }
            told += '}';
        }
        answer(told + "}", bytes);
        emitted_.clear(), notes_.clear();
    }

    // A state is the frame, what was held, and either all that was bound or what the game itself says, in hex.
    void save() {
        if (!saves_) throw detail::Refusal(-32600, "this game does not save");
        std::string state = std::to_string(frame_);
        for (double one : inputs_) detail::write_number(state += ' ', one);
        state += " |";
        if (save_) {
            static const char *digits = "0123456789abcdef";
            for (unsigned char one : save_()) (state += digits[one >> 4]) += digits[one & 15];
        } else {
            for (const Kept &one : kept_) one.write(state += ' ');
        }
        std::string told = "{\"state\":";
        detail::write_text(told, state);
        answer(told + "}");
    }
    void load(const detail::Json &params) {
        const detail::Json *given = params.get("state");
        std::size_t bar = given ? given->string.find(" |") : std::string::npos;
        if (!saves_ || bar == std::string::npos) throw detail::Refusal(-32602, "load takes a state that save gave");
        std::vector<std::string> words = split(given->string.substr(0, bar));
        std::string rest = given->string.substr(bar + 2);
        std::vector<std::string> values = split(rest);
        if (words.size() != 1 + actions_.size() || (!load_ && values.size() != kept_.size()) || rest.size() % (load_ ? 2 : 1))
            throw detail::Refusal(-32602, "load takes a state that save gave");
        if (load_) {
            std::string own;
            for (std::size_t n = 0; n + 1 < rest.size(); n += 2)
                own += static_cast<char>(std::stoi(rest.substr(n, 2), nullptr, 16));
            load_(own);
        } else {
            for (std::size_t n = 0; n < kept_.size(); n++) kept_[n].read(values[n]);
        }
        read_kept(words[0], frame_);
        for (std::size_t n = 0; n < actions_.size(); n++) read_kept(words[n + 1], inputs_[n]);
        running_ = true;
        failed_.clear();
        std::string told = "{\"frame\":" + std::to_string(frame_) + ",\"row\":{";
        write_row(told);
        answer(told + "}}");
    }
    static std::vector<std::string> split(const std::string &text) {
        std::vector<std::string> found;
        for (std::size_t at = 0; at < text.size();) {
            std::size_t end = std::min(text.find(' ', at), text.size());
            if (end > at) found.push_back(text.substr(at, end - at));
            at = end + 1;
        }
        return found;
    }
};

}  // namespace larktally

#endif
