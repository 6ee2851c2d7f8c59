// Lantern: Wick on a quay, as a small game in C#. The game knows nothing of LarkTally; Main binds it.
using System;

enum Gait { standing, airborne }

sealed class Wick
{
    public double X = 24, Y = 16, Vx, Vy;
    public bool Grounded = true;
    public Gait Gait = Gait.standing;
    public int Oil = 7, Rest;
}

static class Game
{
    static int Main()
    {
        var wick = new Wick();
        double speed = 120, rate = 60;

        var subject = new LarkTally.Subject("lantern", "1.0");
        subject.Bind("wick.x", () => wick.X).Bind("wick.y", () => wick.Y);
        subject.Bind("wick.vx", () => wick.Vx).Bind("wick.vy", () => wick.Vy);
        subject.Bind("wick.grounded", () => wick.Grounded).Bind("wick.gait", () => wick.Gait);
        subject.Bind("can.oil", () => wick.Oil).Bind("can.rest", () => wick.Rest);
        subject.Bind("can.empty", () => wick.Oil == 0);
        subject.Analog("walk").Action("hop").Action("spark");
        subject.Event("hop").Event("landed").Event("spark");
        subject.Param("speed", () => speed, 10, 400).SavedAsBound();
        subject.OnReset(start =>
        {
            wick = new Wick();
            rate = start.Rate;
        });

        // One frame: the timer, then the rules, then motion (semi-implicit Euler).
        Action step = () =>
        {
            if (wick.Rest > 0) wick.Rest -= 1;
            if (wick.Gait == Gait.airborne && wick.Grounded)
            {
                wick.Gait = Gait.standing;
            }
            else if (wick.Gait == Gait.standing && subject.Pressed("hop"))
            {
                wick.Vy = 360;
                wick.Gait = Gait.airborne;
                wick.Grounded = false;
                subject.Emit("hop", "wick", "speed", wick.Vy);
            }
            if (subject.Pressed("spark") && wick.Rest == 0 && wick.Oil > 0)
            {
                wick.Oil -= 1;
                wick.Rest = 12;
                subject.Emit("spark", "can", "left", wick.Oil);
                subject.Note("can.oil", "a spark was thrown");
            }
            wick.Vx = speed * subject.Value("walk");
            wick.Vy -= 900 / rate;
            wick.X += wick.Vx / rate;
            wick.Y += wick.Vy / rate;
            if (wick.Y <= 16)
            {
                if (!wick.Grounded) subject.Emit("landed", "wick");
                wick.Y = 16;
                wick.Vy = 0;
                wick.Grounded = true;
            }
        };

        // A host that owns its loop asks once a tick; where there is no port to connect to, Serve owns the loop.
        if (subject.Connect())
        {
            while (subject.Tick()) step();
            return 0;
        }
        return subject.Serve(step);
    }
}
