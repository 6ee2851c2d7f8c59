// LarkTally.cs: makes a game in C# a subject that larktally records, replays and judges. One file, no dependencies; under the
// licence of Lark Tally. How it is used: docs/programs.md, and Game.cs beside this file.
using System;
using System.Collections.Generic;
using System.Globalization;
using System.IO;
using System.Linq;
using System.Linq.Expressions;
using System.Net.Sockets;
using System.Text;

namespace LarkTally
{
    /// <summary>What a run is made from: frames per second, as a number and as the exact fraction, and the seed.</summary>
    public sealed class Start
    {
        public double Rate = 60;
        public string ExactRate = "60";
        public long Seed;
    }

    /// <summary>A game as a subject. Bind what is to be recorded, say what it takes, and hand over each frame: with Serve, which
    /// calls the game, or with Tick, which a host calls that owns its loop.</summary>
    public sealed class Subject
    {
        const int MostFrames = 65536;

        sealed class Channel
        {
            public string Name, Kind;
            public string[] Labels = new string[0];
            public double Wraps = double.NaN;
            public Action<StringBuilder> AsJson;
            public Action<BinaryWriter> AsBytes;
        }

        sealed class Kept
        {
            public Func<string> Write;
            public Action<string> Read;
        }

        sealed class Announced
        {
            public string Name, Told;
            public Action<object> Set;
        }

        sealed class Played
        {
            public string Channels, Inputs, Events;
        }

        /// <summary>A request that is refused, with the code of JSON-RPC 2.0 that says why.</summary>
        sealed class Refusal : Exception
        {
            public readonly int Code;
            public Refusal(int code, string message) : base(message) { Code = code; }
        }

        readonly string name, version;
        readonly List<Channel> channels = new List<Channel>();
        readonly List<Kept> kept = new List<Kept>();
        readonly List<Announced> parameters = new List<Announced>();
        readonly List<KeyValuePair<string, bool>> actions = new List<KeyValuePair<string, bool>>();
        readonly Dictionary<string, int> places = new Dictionary<string, int>();
        readonly List<string> events = new List<string>();
        string[] rates = new string[0];
        Action<Start> reset;
        Func<string> save;
        Action<string> load;
        bool saves, running, ended, binary;
        Stream input, output;
        readonly byte[] chunk = new byte[65536];
        int chunkAt, chunkEnd;
        // The request that is being answered: its id, its frames, how many are left, and the inputs of each action.
        string id = "null", failed;
        long frame;
        int asked, left;
        double[][] wanted = new double[0][];
        double[] now = new double[0], before = new double[0];
        StringBuilder[] columns = new StringBuilder[0];
        BinaryWriter[] packed = new BinaryWriter[0];
        readonly StringBuilder emitted = new StringBuilder(), notes = new StringBuilder();
        readonly Queue<Played> ring = new Queue<Played>();
        int ringMost;
        Socket live;
        byte[] waiting = new byte[0];
        double ringRate;

        public Subject(string name, string version)
        {
            this.name = name;
            this.version = version;
        }

        /// <summary>A channel that is a variable, a field or a property, () => wick.X, which is saved too, or any other value: bool
        /// is a flag, a whole number a count, a floating one a number, an enum a label of its names. With labels a whole number
        /// is the place of its label.</summary>
        public Subject Bind<T>(string channel, Expression<Func<T>> place, params string[] labels)
        {
            Func<T> get = place.Compile();
            Action<T> set = SetterOf(place);
            if (set != null) Keep(get, set);
            return Add(channel, get, labels);
        }

        /// <summary>The same where expressions cannot be compiled: what reads it and, where it is saved, what sets it.</summary>
        public Subject Bind<T>(string channel, Func<T> get, Action<T> set, params string[] labels)
        {
            if (set != null) Keep(get, set);
            return Add(channel, get, labels);
        }

        /// <summary>A channel is an angle: what a whole turn is.</summary>
        public Subject Wraps(string channel, double turn)
        {
            channels.Single(one => one.Name == channel).Wraps = turn;
            return this;
        }

        /// <summary>State that is no channel, for SavedAsBound.</summary>
        public Subject Keep<T>(Expression<Func<T>> place)
        {
            Action<T> set = SetterOf(place);
            if (set == null) throw new ArgumentException("what is kept is a variable, a field or a property that can be set: " + place);
            return Keep(place.Compile(), set);
        }

        public Subject Keep<T>(Func<T> get, Action<T> set)
        {
            kept.Add(new Kept { Write = () => TextOf(get()), Read = text => set(ValueOf<T>(text)) });
            return this;
        }

        public Subject Action(string action) { return AddAction(action, false); }
        public Subject Analog(string action) { return AddAction(action, true); }
        public Subject Event(string happening) { events.Add(happening); return this; }
        public Subject Rates(params string[] accepted) { rates = accepted; return this; }

        /// <summary>A variable that a run may set; its default is what stands there now. It is set before and after a reset, so that
        /// it lasts.</summary>
        public Subject Param<T>(string param, Expression<Func<T>> place, double least = double.NaN, double most = double.NaN)
        {
            Action<T> set = SetterOf(place);
            if (set == null) throw new ArgumentException("a param is a variable, a field or a property that can be set: " + place);
            return Param(param, place.Compile(), set, least, most);
        }

        public Subject Param<T>(string param, Func<T> get, Action<T> set, double least = double.NaN, double most = double.NaN)
        {
            T start = get();
            string told = "{\"name\":" + Json.Text(param) + ",\"default\":" + Json.Plain(start);
            if (!double.IsNaN(least)) told += ",\"least\":" + Json.Number(least);
            if (!double.IsNaN(most)) told += ",\"most\":" + Json.Number(most);
            Action<object> given = value => set(value == null ? start : (T)Convert.ChangeType(value, typeof(T), CultureInfo.InvariantCulture));
            parameters.Add(new Announced { Name = param, Told = told + "}", Set = given });
            return this;
        }

        /// <summary>Back to the beginning, whatever was before.</summary>
        public Subject OnReset(Action<Start> does) { reset = does; return this; }

        /// <summary>What was bound and kept is all of the state: it is saved and put back.</summary>
        public Subject SavedAsBound() { saves = true; return this; }

        /// <summary>The game's own functions save its state as text, and put it back.</summary>
        public Subject OnSave(Func<string> gives, Action<string> takes)
        {
            saves = true;
            save = gives;
            load = takes;
            return this;
        }

        /// <summary>By how much an action is held in this frame.</summary>
        public double Value(string action) { return now[PlaceOf(action)]; }
        public bool Held(string action) { return Math.Abs(Value(action)) >= 0.5; }
        /// <summary>Held in this frame and not in the one before.</summary>
        public bool Pressed(string action) { return Held(action) && Math.Abs(before[PlaceOf(action)]) < 0.5; }
        public long Frame { get { return frame; } }

        /// <summary>Something happened in this frame; data is names and values in turn: Emit("hop", "wick", "speed", 360).</summary>
        public void Emit(string happening, string source = "", params object[] data)
        {
            // Nobody asks for the events of a game that is only played.
            if (output == null && ringMost == 0 && live == null) return;
            if (emitted.Length > 0) emitted.Append(',');
            emitted.Append('[');
            if (output != null) emitted.Append(frame).Append(',');
            emitted.Append(Json.Text(happening)).Append(',').Append(Json.Text(source)).Append(",{");
            for (int n = 0; n + 1 < data.Length; n += 2)
                emitted.Append(n > 0 ? "," : "").Append(Json.Text((string)data[n])).Append(':').Append(Json.Plain(data[n + 1]));
            emitted.Append("}]");
        }

        /// <summary>Why a channel is what it is in this frame; it stands under a claim that is broken there.</summary>
        public void Note(string channel, string text)
        {
            if (output == null) return;
            if (notes.Length > 0) notes.Append(',');
            notes.Append('[').Append(frame).Append(',').Append(Json.Text(channel)).Append(',').Append(Json.Text(text)).Append(']');
        }

        /// <summary>Speaks over standard input and output, or over the port in LARKTALLY_PORT, and calls step for each frame, until
        /// it is asked to end. What the game prints meanwhile goes to standard error.</summary>
        public int Serve(Action step)
        {
            if (!Connect())
            {
                input = Console.OpenStandardInput();
                output = Console.OpenStandardOutput();
                Console.SetOut(Console.Error);
            }
            while (Tick())
            {
                try { step(); }
                catch (Exception error) { Fail(error.Message); }
            }
            return 0;
        }

        /// <summary>Connects to the port in LARKTALLY_PORT; false where there is none, and the game is played as always.</summary>
        public bool Connect()
        {
            string port = Environment.GetEnvironmentVariable("LARKTALLY_PORT");
            if (string.IsNullOrEmpty(port)) return false;
            var client = new TcpClient("127.0.0.1", int.Parse(port, CultureInfo.InvariantCulture)) { NoDelay = true };
            input = output = client.GetStream();
            return true;
        }

        /// <summary>One call a tick, before the game's own step: it takes the row that the tick before left, and waits until a frame
        /// is wanted. False when the run is over.</summary>
        public bool Tick()
        {
            if (left > 0)
            {
                TakeRow();
                if (--left == 0) AnswerStep();
            }
            while (left == 0)
            {
                string line = ended ? null : ReadLine();
                if (line == null) return false;
                Take(line);
            }
            int k = asked - left;
            before = now;
            now = wanted.Select(values => values == null ? 0.0 : values[k]).ToArray();
            frame++;
            return true;
        }

        /// <summary>What went wrong in this frame; the run ends with it.</summary>
        public void Fail(string message) { failed = message; }

        /// <summary>Keeps the last seconds of a game that is played, for reports: call PlayedFrame once in each tick, after the
        /// step, and WriteReport when a tester asks for it.</summary>
        public Subject KeepLast(double seconds, double rate)
        {
            ringMost = (int)Math.Ceiling(seconds * rate) + 1;
            ringRate = rate;
            return this;
        }

        /// <summary>A frame was played; the inputs are what each action is at, in the order in which they were announced.</summary>
        public void PlayedFrame(params double[] inputs)
        {
            var told = new StringBuilder();
            for (int n = 0; n < actions.Count; n++)
                told.Append(n > 0 ? "," : "").Append(Json.Text(actions[n].Key)).Append(':').Append(Json.Number(n < inputs.Length ? inputs[n] : 0));
            var row = new Played { Channels = Row(), Inputs = told.ToString(), Events = emitted.ToString() };
            ring.Enqueue(row);
            if (live != null)
                SayLive("{\"jsonrpc\":\"2.0\",\"method\":\"row\",\"params\":{\"row\":{" + row.Channels + "},\"inputs\":{" + row.Inputs
                    + "},\"events\":[" + row.Events + "]}}\n");
            if (ring.Count > ringMost) ring.Dequeue();
            emitted.Clear();
            frame++;
        }

        /// <summary>Shows the game that is played to `larktally watch --listen PORT`, with each PlayedFrame; false where nothing listens.
        /// The game never waits for it.</summary>
        public bool ShowTo(int port, double rate)
        {
            live = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
            try
            {
                live.Connect("127.0.0.1", port);
                live.Blocking = false;
            }
            catch (SocketException)
            {
                live = null;
                return false;
            }
            SayLive("{\"jsonrpc\":\"2.0\",\"method\":\"live\",\"params\":" + About() + ",\"rate\":\"" + Json.Number(rate) + "\"}}\n");
            return live != null;
        }

        // What the other side does not take yet waits; one that takes nothing for long is let go of.
        void SayLive(string line)
        {
            byte[] more = Encoding.UTF8.GetBytes(line);
            int before = waiting.Length;
            Array.Resize(ref waiting, before + more.Length);
            Buffer.BlockCopy(more, 0, waiting, before, more.Length);
            SocketError error;
            int sent = live.Send(waiting, 0, waiting.Length, SocketFlags.None, out error);
            if (sent > 0)
            {
                Buffer.BlockCopy(waiting, sent, waiting, 0, waiting.Length - sent);
                Array.Resize(ref waiting, waiting.Length - sent);
            }
            bool gone = error != SocketError.Success && error != SocketError.WouldBlock;
            if (!gone && waiting.Length < 16 << 20) return;
            live.Close();
            live = null;
            waiting = new byte[0];
        }

        /// <summary>Writes the frames that are kept as a trace, JSON Lines, that every command of larktally reads.</summary>
        public void WriteReport(string path)
        {
            string names = Json.List(actions.Select(one => one.Key));
            using (var file = new StreamWriter(path, false, new UTF8Encoding(false)))
            {
                file.Write("{\"larktally\":1,\"rate\":\"" + Json.Number(ringRate) + "\",\"subject\":" + Json.Text(name + ", the frames before " + frame)
                    + ",\"channels\":[" + ChannelsTold() + "],\"inputs\":" + names + ",\"actions\":" + names + ",\"events\":" + Json.List(events) + "}\n");
                int k = 0;
                foreach (Played row in ring)
                {
                    // No step made row 0, so that it has no inputs.
                    string inputs = k == 0 ? "" : ",\"input\":{" + row.Inputs + "}";
                    file.Write("{\"frame\":" + k + ",\"set\":{" + row.Channels + "}" + inputs + ",\"events\":[" + row.Events + "]}\n");
                    k++;
                }
                file.Write("{\"rows\":" + k + "}\n");
            }
        }

        static Action<T> SetterOf<T>(Expression<Func<T>> place)
        {
            var member = place.Body as MemberExpression;
            if (member == null) return null;
            var property = member.Member as System.Reflection.PropertyInfo;
            var field = member.Member as System.Reflection.FieldInfo;
            if (property != null && !property.CanWrite || field != null && field.IsInitOnly) return null;
            ParameterExpression value = Expression.Parameter(typeof(T));
            return Expression.Lambda<Action<T>>(Expression.Assign(member, value), value).Compile();
        }

        Subject Add<T>(string channel, Func<T> get, string[] labels)
        {
            var made = new Channel { Name = channel, Labels = labels };
            Type type = typeof(T);
            if (type.IsEnum && labels.Length == 0)
            {
                Array values = Enum.GetValues(type);
                made.Labels = Enum.GetNames(type);
                BindLabels(made, () => Array.IndexOf(values, (object)get()));
            }
            else if (labels.Length > 0)
            {
                BindLabels(made, () => (int)Convert.ToInt64(get()));
            }
            else if (type == typeof(bool))
            {
                Func<bool> flag = (Func<bool>)(object)get;
                made.Kind = "flag";
                made.AsJson = into => into.Append(flag() ? "true" : "false");
                made.AsBytes = into => into.Write(flag());
            }
            else if (type == typeof(double) || type == typeof(float))
            {
                Func<double> number = get as Func<double> ?? (() => Convert.ToDouble(get()));
                made.Kind = "number";
                made.AsJson = into => into.Append(Json.Number(number()));
                made.AsBytes = into => into.Write(number());
            }
            else
            {
                made.Kind = "count";
                made.AsJson = into => into.Append(Convert.ToInt64(get()));
                made.AsBytes = into => into.Write(Convert.ToInt64(get()));
            }
            channels.Add(made);
            return this;
        }

        static void BindLabels(Channel made, Func<int> place)
        {
            Func<int> known = () =>
            {
                int found = place();
                if (found < 0 || found >= made.Labels.Length)
                    throw new InvalidOperationException("channel " + made.Name + " is at label " + found + " of " + made.Labels.Length);
                return found;
            };
            made.Kind = "label";
            made.AsJson = into => into.Append(Json.Text(made.Labels[known()]));
            made.AsBytes = into => into.Write((ushort)known());
        }

        static string TextOf<T>(T value)
        {
            object plain = value;
            if (plain is double || plain is float) return Json.Number(Convert.ToDouble(plain));
            return Convert.ToInt64(plain).ToString(CultureInfo.InvariantCulture);
        }

        static T ValueOf<T>(string text)
        {
            Type type = typeof(T);
            if (type == typeof(double) || type == typeof(float)) return (T)Convert.ChangeType(Json.NumberOf(text), type);
            long whole = long.Parse(text, CultureInfo.InvariantCulture);
            if (type.IsEnum) return (T)Enum.ToObject(type, whole);
            return (T)Convert.ChangeType(whole, type);
        }

        Subject AddAction(string action, bool analog)
        {
            places[action] = actions.Count;
            actions.Add(new KeyValuePair<string, bool>(action, analog));
            now = new double[actions.Count];
            before = new double[actions.Count];
            return this;
        }

        int PlaceOf(string action)
        {
            int place;
            if (!places.TryGetValue(action, out place)) throw new ArgumentException("no action '" + action + "' was announced");
            return place;
        }

        string ReadLine()
        {
            var line = new MemoryStream();
            for (;;)
            {
                int end = Array.IndexOf(chunk, (byte)'\n', chunkAt, chunkEnd - chunkAt);
                if (end >= 0)
                {
                    line.Write(chunk, chunkAt, end - chunkAt);
                    chunkAt = end + 1;
                    return Encoding.UTF8.GetString(line.ToArray());
                }
                line.Write(chunk, chunkAt, chunkEnd - chunkAt);
                chunkAt = 0;
                chunkEnd = Math.Max(input.Read(chunk, 0, chunk.Length), 0);
                if (chunkEnd == 0) return null;
            }
        }

        void Send(string line, byte[] bytes)
        {
            byte[] text = Encoding.UTF8.GetBytes(line + "\n");
            try
            {
                output.Write(text, 0, text.Length);
                output.Write(bytes, 0, bytes.Length);
                output.Flush();
            }
            catch (IOException)
            {
                ended = true;
            }
        }

        void Answer(string result, byte[] bytes = null)
        {
            Send("{\"jsonrpc\":\"2.0\",\"id\":" + id + ",\"result\":" + result + "}", bytes ?? new byte[0]);
        }

        void Refuse(int code, string message, bool inFrame)
        {
            string at = inFrame ? ",\"data\":{\"frame\":" + frame + "}" : "";
            Send("{\"jsonrpc\":\"2.0\",\"id\":" + id + ",\"error\":{\"code\":" + code + ",\"message\":" + Json.Text(message) + at + "}}", new byte[0]);
        }

        void Take(string line)
        {
            id = "null";
            try
            {
                object read = Json.Read(line);
                if (read == Json.Broken) throw new Refusal(-32700, "not JSON");
                var request = read as Dictionary<string, object>;
                if (request == null) throw new Refusal(-32600, "a request is an object");
                object number = Get(request, "id");
                if (number is double || number is string) id = Json.Plain(number);
                var method = Get(request, "method") as string;
                if (method == null) throw new Refusal(-32600, "no method");
                Do(method, Get(request, "params") as Dictionary<string, object> ?? new Dictionary<string, object>());
            }
            catch (Refusal refusal)
            {
                Refuse(refusal.Code, refusal.Message, false);
            }
            catch (Exception error)
            {
                Refuse(-32000, error.Message, false);
            }
        }

        void Do(string method, Dictionary<string, object> given)
        {
            switch (method)
            {
                case "hello": Hello(given); break;
                case "reset": Reset(given); break;
                case "step": BeginStep(given); break;
                case "save": Save(); break;
                case "load": Load(given); break;
                case "end": Answer("{}"); ended = true; break;
                default: throw new Refusal(-32601, "no method " + method);
            }
        }

        static object Get(Dictionary<string, object> of, string key)
        {
            object found;
            return of.TryGetValue(key, out found) ? found : null;
        }

        string ChannelsTold()
        {
            return string.Join(",", channels.Select(one =>
                "{\"name\":" + Json.Text(one.Name) + ",\"kind\":\"" + one.Kind + "\""
                + (one.Labels.Length > 0 ? ",\"labels\":" + Json.List(one.Labels) : "")
                + (double.IsNaN(one.Wraps) ? "" : ",\"wraps\":" + Json.Number(one.Wraps)) + "}"));
        }

        void Hello(Dictionary<string, object> given)
        {
            var ways = Get(given, "columns") as List<object>;
            binary = ways != null && ways.Contains("binary");
            string told = About();
            if (binary) told += ",\"columns\":\"binary\"";
            string token = Environment.GetEnvironmentVariable("LARKTALLY_TOKEN");
            if (!string.IsNullOrEmpty(token)) told += ",\"token\":" + Json.Text(token);
            Answer(told + "}");
        }

        // What it says of itself, but for the end of the object.
        string About()
        {
            return "{\"protocol\":1,\"name\":" + Json.Text(name) + ",\"version\":" + Json.Text(version)
                + ",\"channels\":[" + ChannelsTold() + "],\"actions\":["
                + string.Join(",", actions.Select(one => "{\"name\":" + Json.Text(one.Key) + (one.Value ? ",\"analog\":true}" : "}")))
                + "],\"events\":" + Json.List(events) + ",\"rates\":" + Json.List(rates)
                + ",\"params\":[" + string.Join(",", parameters.Select(one => one.Told)) + "],\"saves\":" + (saves ? "true" : "false");
        }

        string Row()
        {
            var told = new StringBuilder();
            foreach (Channel one in channels)
            {
                told.Append(told.Length > 0 ? "," : "").Append(Json.Text(one.Name)).Append(':');
                one.AsJson(told);
            }
            return told.ToString();
        }

        void SetParams(Dictionary<string, object> given)
        {
            foreach (Announced one in parameters) one.Set(Get(given, one.Name));
        }

        void Reset(Dictionary<string, object> given)
        {
            var start = new Start { ExactRate = Get(given, "rate") as string ?? "60" };
            string[] parts = start.ExactRate.Split('/');
            double over, under = 1;
            bool reads = double.TryParse(parts[0], NumberStyles.Float, CultureInfo.InvariantCulture, out over)
                && (parts.Length < 2 || double.TryParse(parts[1], NumberStyles.Float, CultureInfo.InvariantCulture, out under));
            if (!reads || !(over > 0 && under > 0)) throw new Refusal(-32602, "reset takes a rate");
            start.Rate = over / under;
            if (Get(given, "seed") is double) start.Seed = (long)(double)Get(given, "seed");
            var set = Get(given, "params") as Dictionary<string, object> ?? new Dictionary<string, object>();
            frame = 0;
            running = true;
            failed = null;
            emitted.Clear();
            notes.Clear();
            now = new double[actions.Count];
            before = new double[actions.Count];
            SetParams(set);
            if (reset != null) reset(start);
            SetParams(set);
            Answer("{\"row\":{" + Row() + "},\"events\":[" + emitted + "]" + Noted() + "}");
            emitted.Clear();
            notes.Clear();
        }

        void BeginStep(Dictionary<string, object> given)
        {
            if (!running) throw new Refusal(-32600, "reset comes before step");
            object frames = Get(given, "frames");
            if (!(frames is double) || (double)frames != Math.Floor((double)frames) || (double)frames < 0 || (double)frames > MostFrames)
                throw new Refusal(-32602, "frames is a whole number from 0 to " + MostFrames);
            var inputs = Get(given, "inputs") as Dictionary<string, object>;
            if (inputs == null) throw new Refusal(-32602, "inputs is an object of lists");
            int count = (int)(double)frames;
            var found = new double[actions.Count][];
            foreach (KeyValuePair<string, object> one in inputs)
            {
                int place;
                var values = one.Value as List<object>;
                if (!places.TryGetValue(one.Key, out place)) throw new Refusal(-32602, "no action " + one.Key);
                if (values == null || values.Count != count || values.Any(value => !(value is double)))
                    throw new Refusal(-32602, "an input has a number for each frame");
                found[place] = values.Cast<double>().ToArray();
            }
            wanted = found;
            asked = left = count;
            columns = channels.Select(one => new StringBuilder()).ToArray();
            packed = channels.Select(one => new BinaryWriter(new MemoryStream())).ToArray();
            if (count == 0) AnswerStep();
        }

        void TakeRow()
        {
            try
            {
                if (failed != null) throw new InvalidOperationException(failed);
                for (int n = 0; n < channels.Count; n++)
                {
                    if (binary)
                    {
                        channels[n].AsBytes(packed[n]);
                        continue;
                    }
                    if (columns[n].Length > 0) columns[n].Append(',');
                    channels[n].AsJson(columns[n]);
                }
            }
            catch (Exception error)
            {
                Refuse(-32000, error.Message, true);
                left = 1;
                asked = -1;
                running = false;
            }
        }

        string Noted() { return notes.Length > 0 ? ",\"notes\":[" + notes + "]" : ""; }

        void AnswerStep()
        {
            // What failed is answered already.
            if (asked < 0) return;
            var told = new StringBuilder("{\"events\":[").Append(emitted).Append(']').Append(Noted());
            var bytes = new MemoryStream();
            if (binary)
            {
                foreach (BinaryWriter one in packed) ((MemoryStream)one.BaseStream).WriteTo(bytes);
                told.Append(",\"bytes\":").Append(bytes.Length);
            }
            else
            {
                told.Append(",\"columns\":{");
                for (int n = 0; n < channels.Count; n++)
                    told.Append(n > 0 ? "," : "").Append(Json.Text(channels[n].Name)).Append(":[").Append(columns[n]).Append(']');
                told.Append('}');
            }
            Answer(told.Append('}').ToString(), bytes.ToArray());
            emitted.Clear();
            notes.Clear();
        }

        // A state is the frame, what was held, and either all that was bound or what the game itself says.
        void Save()
        {
            if (!saves) throw new Refusal(-32600, "this game does not save");
            string held = string.Join(" ", now.Select(Json.Number));
            string own = save != null ? save() : string.Join(" ", kept.Select(one => one.Write()));
            Answer("{\"state\":" + Json.Text(frame + " " + held + "|" + own) + "}");
        }

        void Load(Dictionary<string, object> given)
        {
            var state = Get(given, "state") as string ?? "";
            int bar = state.IndexOf('|');
            string[] words = bar < 0 ? new string[0] : state.Substring(0, bar).Trim().Split(' ');
            if (!saves || words.Length != 1 + actions.Count) throw new Refusal(-32602, "load takes a state that save gave");
            string own = state.Substring(bar + 1);
            if (load != null)
            {
                load(own);
            }
            else
            {
                string[] values = own.Split(' ');
                if (values.Length != Math.Max(kept.Count, 1)) throw new Refusal(-32602, "load takes a state that save gave");
                for (int n = 0; n < kept.Count; n++) kept[n].Read(values[n]);
            }
            frame = long.Parse(words[0], CultureInfo.InvariantCulture);
            now = words.Skip(1).Select(Json.NumberOf).ToArray();
            running = true;
            failed = null;
            Answer("{\"frame\":" + frame + ",\"row\":{" + Row() + "}}");
        }
    }

    /// <summary>JSON as far as the protocol needs it: objects are dictionaries, lists are lists, numbers are doubles.</summary>
    static class Json
    {
        public static readonly object Broken = new object();

        public static string Text(string text)
        {
            var told = new StringBuilder("\"");
            foreach (char one in text ?? "")
            {
                if (one == '"' || one == '\\') told.Append('\\').Append(one);
                else if (one < 0x20) told.Append("\\u").Append(((int)one).ToString("x4"));
                else told.Append(one);
            }
            return told.Append('"').ToString();
        }

        /// <summary>The shortest text that reads back to the same bits; JSON has no number for nan and inf.</summary>
        public static string Number(double value)
        {
            if (double.IsNaN(value)) return "\"nan\"";
            if (double.IsInfinity(value)) return value < 0 ? "\"-inf\"" : "\"inf\"";
            // A whole number needs no search, and minus zero is none.
            if (value == Math.Floor(value) && Math.Abs(value) < 1e15 && BitConverter.DoubleToInt64Bits(value) != long.MinValue)
                return ((long)value).ToString(CultureInfo.InvariantCulture);
            string text = value.ToString("R", CultureInfo.InvariantCulture);
            if (double.Parse(text, CultureInfo.InvariantCulture) != value) text = value.ToString("G17", CultureInfo.InvariantCulture);
            return text == "-0" || text == "0" && value == 0 ? "-0.0" : text;
        }

        public static double NumberOf(string text)
        {
            text = text.Trim('"');
            if (text == "nan") return double.NaN;
            if (text == "inf") return double.PositiveInfinity;
            if (text == "-inf") return double.NegativeInfinity;
            // Not every reader of numbers keeps the sign of zero.
            if (text == "-0.0") return -0.0;
            return double.Parse(text, CultureInfo.InvariantCulture);
        }

        public static string Plain(object value)
        {
            if (value is bool) return (bool)value ? "true" : "false";
            if (value is string) return Text((string)value);
            if (value is double || value is float || value is decimal) return Number(Convert.ToDouble(value));
            return Convert.ToInt64(value).ToString(CultureInfo.InvariantCulture);
        }

        public static string List(IEnumerable<string> texts) { return "[" + string.Join(",", texts.Select(Text)) + "]"; }

        /// <summary>What a line says, or Broken. No deeper than 64, so that no line brings it down.</summary>
        public static object Read(string line)
        {
            int at = 0;
            object found = Value(line, ref at, 0);
            Blank(line, ref at);
            return at == line.Length ? found : Broken;
        }

        static void Blank(string line, ref int at)
        {
            while (at < line.Length && " \t\r\n".IndexOf(line[at]) >= 0) at++;
        }

        static bool Is(string line, ref int at, char one)
        {
            Blank(line, ref at);
            if (at >= line.Length || line[at] != one) return false;
            at++;
            return true;
        }

        static object Value(string line, ref int at, int depth)
        {
            if (depth > 64) return Broken;
            if (Is(line, ref at, '{')) return Members(line, ref at, depth);
            if (Is(line, ref at, '[')) return Items(line, ref at, depth);
            if (Is(line, ref at, '"')) return Quoted(line, ref at);
            int start = at;
            while (at < line.Length && ",]} \t\r\n:".IndexOf(line[at]) < 0) at++;
            string word = line.Substring(start, at - start);
            if (word == "true") return true;
            if (word == "false") return false;
            if (word == "null") return null;
            double number;
            return double.TryParse(word, NumberStyles.Float, CultureInfo.InvariantCulture, out number) ? number : Broken;
        }

        static object Members(string line, ref int at, int depth)
        {
            var found = new Dictionary<string, object>();
            if (Is(line, ref at, '}')) return found;
            for (;;)
            {
                object key = Is(line, ref at, '"') ? Quoted(line, ref at) : Broken;
                if (key == Broken || !Is(line, ref at, ':')) return Broken;
                object value = Value(line, ref at, depth + 1);
                if (value == Broken) return Broken;
                found[(string)key] = value;
                if (Is(line, ref at, '}')) return found;
                if (!Is(line, ref at, ',')) return Broken;
            }
        }

        static object Items(string line, ref int at, int depth)
        {
            var found = new List<object>();
            if (Is(line, ref at, ']')) return found;
            for (;;)
            {
                object value = Value(line, ref at, depth + 1);
                if (value == Broken) return Broken;
                found.Add(value);
                if (Is(line, ref at, ']')) return found;
                if (!Is(line, ref at, ',')) return Broken;
            }
        }

        static object Quoted(string line, ref int at)
        {
            var found = new StringBuilder();
            while (at < line.Length && line[at] != '"')
            {
                if (line[at] != '\\')
                {
                    found.Append(line[at++]);
                    continue;
                }
                if (++at >= line.Length) return Broken;
                char one = line[at++];
                int place = "bfnrt".IndexOf(one);
                if (one == 'u')
                {
                    int code;
                    if (at + 4 > line.Length || !int.TryParse(line.Substring(at, 4), NumberStyles.HexNumber, CultureInfo.InvariantCulture, out code))
                        return Broken;
                    found.Append((char)code);
                    at += 4;
                }
                else
                {
                    found.Append(place >= 0 ? "\b\f\n\r\t"[place] : one);
                }
            }
            if (at >= line.Length) return Broken;
            at++;
            return found.ToString();
        }
    }
}
