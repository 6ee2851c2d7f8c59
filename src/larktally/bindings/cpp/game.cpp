// Lantern: Wick on a quay, as a small game in C++. The game knows nothing of larktally; main() binds it.
#include "larktally.hpp"

enum Gait { standing, airborne };

struct Wick {
    double x = 24, y = 16, vx = 0, vy = 0;
    bool grounded = true;
    Gait gait = standing;
    int oil = 7, rest = 0;
};

int main() {
    Wick wick;
    double speed = 120, rate = 60;

    larktally::Subject subject("lantern", "1.0");
    subject.bind("wick.x", &wick, &Wick::x).bind("wick.y", &wick.y).bind("wick.vx", &wick.vx).bind("wick.vy", &wick.vy);
    subject.bind("wick.grounded", &wick.grounded);
    subject.bind("wick.gait", &wick.gait, {"standing", "airborne"});
    subject.bind("can.oil", &wick.oil).bind("can.rest", &wick.rest);
    subject.bind("can.empty", [&] { return wick.oil == 0; });
    subject.analog("walk").action("hop").action("spark");
    subject.event("hop").event("landed").event("spark");
    subject.param("speed", &speed, 10, 400).saved_as_bound();
    subject.on_reset([&](const larktally::Start &start) {
        wick = Wick();
        rate = start.rate;
    });

    // One frame: the timer, then the rules, then motion (semi-implicit Euler).
    auto step = [&] {
        if (wick.rest > 0) wick.rest -= 1;
        if (wick.gait == airborne && wick.grounded) {
            wick.gait = standing;
        } else if (wick.gait == standing && subject.pressed("hop")) {
            wick.vy = 360;
            wick.gait = airborne;
            wick.grounded = false;
            subject.emit("hop", "wick", {{"speed", wick.vy}});
        }
        if (subject.pressed("spark") && wick.rest == 0 && wick.oil > 0) {
            wick.oil -= 1;
            wick.rest = 12;
            subject.emit("spark", "can", {{"left", wick.oil}});
            subject.note("can.oil", "a spark was thrown");
        }
        wick.vx = speed * subject.value("walk");
        wick.vy -= 900 / rate;
        wick.x += wick.vx / rate;
        wick.y += wick.vy / rate;
        if (wick.y <= 16) {
            if (!wick.grounded) subject.emit("landed", "wick");
            wick.y = 16;
            wick.vy = 0;
            wick.grounded = true;
        }
    };

    // A host that owns its loop asks once a tick; where there is no port to connect to, serve() owns the loop.
    if (subject.connect()) {
        while (subject.tick()) step();
        return 0;
    }
    return subject.serve(step);
}
