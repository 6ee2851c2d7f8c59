"""A game that runs by itself: every row that it says is shown and kept, and what is no row is told in one message."""

import asyncio
import json
import socket

import pytest
from click.testing import CliRunner

import larktally as lt
from larktally.cli import main
from larktally.watch import live_game
from larktally.watch.live_game import LiveGame, hello_of
from larktally.watch.live_session import LiveSession
from larktally.watch.session import Page

HELLO = {
    "protocol": 1,
    "name": "lantern",
    "version": "2",
    "channels": [{"name": "x", "kind": "number"}, {"name": "gait", "kind": "label", "labels": ["low", "high"]}],
    "actions": ["hop", {"name": "walk", "analog": True}],
    "events": ["landed"],
    "rate": "30",
}


def said(method, params):
    return json.dumps({"jsonrpc": "2.0", "method": method, "params": params}).encode() + b"\n"


def row(n, **more):
    return said("row", {"row": {"x": n / 4, "gait": "high" if n % 3 else "low"}, "inputs": {"walk": 0.5}, **more})


def test_every_row_is_kept_and_the_last_ones_are_shown(tmp_path, monkeypatch):
    monkeypatch.setattr(live_game, "CHUNK", 7)
    monkeypatch.setattr(live_game, "MOST_SHOWN", 40)
    game = LiveGame(hello_of(said("live", HELLO)), tmp_path / "live.parquet")
    for n in range(100):
        game.take(row(n, events=[["landed", "wick", {"n": n}]] if n % 10 == 0 else []))
        if n in (0, 5, 60):
            shown = game.trace()
            assert shown.rows == n + 1 if n < 40 else 40 <= shown.rows < 55
            assert shown["x"][-1] == n / 4 and shown.inputs["walk"][0] == (0.5 if n == 60 else 0)
    trace = lt.load_trace(game.finish())
    assert trace.rows == 100 and trace["x"].tolist() == [n / 4 for n in range(100)] and trace.rate == 30
    assert [(e.row, e.source, e.data) for e in trace.events] == [(n, "wick", {"n": n}) for n in range(0, 100, 10)]
    assert trace.inputs["walk"].tolist() == [0.0] + [0.5] * 99 and trace.header.analog == ("walk",)
    assert lt.check(trace, [lt.claim("it lands", "exactly(event('landed'), 10)")]).passed
    assert not list(tmp_path.glob("*.partial"))


REFUSED = {
    b"what": "row 0: what it said is no JSON",
    said("step", {}): "row 0: a running game says 'row' with params",
    said("row", {"row": {"x": 1}}): "row 0: 'row' has no channel 'gait'",
    said("row", {"row": {"x": 1, "gait": "low"}, "inputs": {"hopp": 1}}): "no action 'hopp'",
    said("row", {"row": {"x": 1, "gait": "low"}, "inputs": {"hop": 3}}): "input 'hop' is 3",
    said("row", {"row": {"x": 1, "gait": "low"}, "inputs": []}): "'inputs' is an object",
    said("row", {"row": {"x": 1, "gait": "low"}, "events": [["bell"]]}): "no event 'bell'",
    said("row", {"row": {"x": 1, "gait": "low"}, "events": ["landed"]}): "an event is",
}


@pytest.mark.parametrize("line", REFUSED)
def test_what_is_no_row_is_told(tmp_path, line):
    game = LiveGame(HELLO, tmp_path / "live.parquet")
    with pytest.raises(lt.LarkTallyError, match=REFUSED[line]):
        game.take(line)
    # A value that is none of its channel's is found where the rows become a chunk: what came before it is kept.
    for good, shown in ((0, False), (3, True), (260, False)):
        wrong = LiveGame(HELLO, tmp_path / f"other{good}.parquet")
        for n in range(good):
            wrong.take(row(n))
        wrong.take(said("row", {"row": {"x": 1, "gait": "wild"}, "events": [["landed"]]}))
        if shown:
            assert wrong.trace().rows == good
        elif not good:
            with pytest.raises(lt.LarkTallyError, match="row 0: channel 'gait' is 'wild'"):
                wrong.trace()
        with pytest.raises(lt.LarkTallyError, match=f"row {good}: channel 'gait' is 'wild'"):
            for n in range(good + 1, 600):
                wrong.take(row(n))
        assert wrong.rows == good
        if good:
            kept = lt.load_trace(wrong.finish())
            assert kept.rows == good and all(event.row < good for event in kept.events)
    for first in (b"{}", b"GET / HTTP/1.1\r\n", said("row", HELLO)):
        with pytest.raises(lt.LarkTallyError, match="does not say 'live' first|says no JSON"):
            hello_of(first)


def test_a_session_shows_one_game_after_the_other_and_keeps_each(tmp_path):
    told = []
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    session = LiveSession(port, tmp_path / "traces", told.append)
    page = Page()

    async def play(lines, wanted, then=0.6):
        reading, writing = await asyncio.open_connection("127.0.0.1", port)
        writing.writelines(lines)
        await writing.drain()
        await asyncio.sleep(then)
        writing.close()
        # However busy the machine is: what is told is waited for.
        for _ in range(400):
            if len(told) >= wanted:
                break
            await asyncio.sleep(0.05)
        return reading

    async def all_of_it():
        watching = asyncio.create_task(session.watch())
        await asyncio.sleep(0.1)
        session.join(page)
        await play([said("live", HELLO), *(row(n) for n in range(50))], 1)
        await play([b"GET / HTTP/1.1\r\n"], 2)
        await play([said("live", {**HELLO, "name": "moth/../x"}), *(row(n) for n in range(9)), b"nonsense\n"], 3)
        watching.cancel()
        session.end()

    asyncio.run(all_of_it())
    assert told[0].startswith("lantern: the game closed its connection after 50 rows; kept: ")
    assert "does not say" in told[1] or "says no JSON" in told[1]
    assert "row 9: what it said is no JSON" in told[2]
    assert sorted(path.name for path in (tmp_path / "traces").iterdir())[0] == "lantern.live.parquet"
    assert all(path.parent == tmp_path / "traces" for path in tmp_path.rglob("*.parquet"))
    sent = []
    while not page.waiting.empty():
        sent.append(page.waiting.get_nowait())
    assert any(isinstance(one, bytes) for one in sent)
    words = [one["text"] for one in sent if isinstance(one, dict) and one["is"] == "failed"]
    assert "no game has connected" in words[0] and "after 50 rows" in words[1]
    assert sent[0]["listening"] is True


def test_a_port_that_is_taken_and_words_that_do_not_go_together_are_told():
    with socket.create_server(("127.0.0.1", 0)) as taken:
        ran = CliRunner().invoke(main, ["watch", "--listen", str(taken.getsockname()[1]), "--no-browser"])
        assert ran.exit_code == 2 and "say another one" in ran.stderr
    for words in (["watch"], ["watch", "x.py", "--listen", "4000"]):
        ran = CliRunner().invoke(main, words)
        assert ran.exit_code == 2 and "--listen PORT" in ran.stderr
