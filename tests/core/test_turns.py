"""Turns at the renderer: fair by person, bounded, given up by who has gone, the newest of a client first."""

import threading
import time

import pytest

from eddyfall.workbench.errors import Dropped, Refused
from eddyfall.workbench.studio.turns import Turns


class Queue:
    """People who wait behind somebody who holds the turn until `go`."""

    def __init__(self, **limits):
        self.turns, self.order, self.threads, self.failed = Turns(**limits), [], [], []
        self.go = threading.Event()
        self.join("holder", hold=True)

    def join(self, person, name=None, hold=False, **options):
        """Someone takes a place; returns when they stand there."""
        before = self.turns.waiting

        def wait():
            try:
                with self.turns.turn(person, **options):
                    self.order.append(name or person)
                    if hold:
                        self.go.wait(20)
            except (Refused, Dropped) as error:
                self.failed.append((name or person, error))

        thread = threading.Thread(target=wait)
        self.threads.append(thread)
        thread.start()
        until(lambda: self.turns.waiting != before or self.order or not thread.is_alive())
        return thread

    def run(self):
        self.go.set()
        for thread in self.threads:
            thread.join(20)
        return self.order[1:]


def until(ready):
    end = time.monotonic() + 20
    while not ready() and time.monotonic() < end:
        time.sleep(0.001)
    assert ready()


def joined(queue, person, names, **options):
    for name in names:
        before = queue.turns.waiting
        queue.join(person, name, **options)
        until(lambda b=before: queue.turns.waiting == b + 1)


def test_who_asks_for_thirty_does_not_keep_the_others_waiting():
    queue = Queue(a_person=30)
    joined(queue, "ana", [f"ana {k}" for k in range(20)])
    joined(queue, "ben", ["ben 0", "ben 1"])
    joined(queue, "cy", ["cy 0"])
    order = queue.run()
    assert order[:5] == ["ana 0", "ben 0", "cy 0", "ana 1", "ben 1"]
    assert order[5:] == [f"ana {k}" for k in range(2, 20)], "a person's own keep their order"


def test_too_many_are_refused_with_a_time():
    queue = Queue(a_person=3, in_all=4)
    joined(queue, "ana", ["1", "2", "3"])
    with pytest.raises(Refused) as refused, queue.turns.turn("ana"):
        pass
    assert refused.value.status == 429 and refused.value.retry_after_s >= 1
    joined(queue, "ben", ["4"])
    with pytest.raises(Refused), queue.turns.turn("cy"):
        pass
    assert queue.run() == ["1", "4", "2", "3"]
    assert queue.turns.waiting == 0
    with queue.turns.turn("ana"):
        pass


def test_who_has_gone_gives_the_place_up():
    queue, gone = Queue(), threading.Event()
    joined(queue, "ana", ["ana"], gone=gone.is_set)
    joined(queue, "ben", ["ben"])
    gone.set()
    until(lambda: queue.turns.waiting == 1)
    assert queue.run() == ["ben"]
    assert [(name, type(error)) for name, error in queue.failed] == [("ana", Dropped)]


def test_the_newest_of_a_client_takes_the_place_of_the_older_ones():
    queue = Queue()
    joined(queue, "ana", ["old"], client="page", number=1)
    joined(queue, "ana", ["other page"], client="page 2", number=1)
    queue.join("ana", "new", client="page", number=2)
    until(lambda: queue.failed)
    with pytest.raises(Refused) as late, queue.turns.turn("ana", client="page", number=1):
        pass
    assert late.value.status == 409, "one that arrives late is no newer"
    joined(queue, "ben", ["ben"], client="page", number=1)
    assert sorted(queue.run()) == ["ben", "new", "other page"]
    assert [(name, error.status) for name, error in queue.failed] == [("old", 409)]


def test_no_turn_is_lost_when_many_come_and_go():
    turns, held, most = Turns(width=2, a_person=100, in_all=1000), [], []
    lock = threading.Lock()

    def work(k):
        try:
            with turns.turn(f"person {k % 5}", gone=lambda: k % 7 == 3):
                with lock:
                    held.append(k)
                    most.append(len(held))
                time.sleep(0.0005)
                with lock:
                    held.remove(k)
                if k % 11 == 0:
                    raise ValueError
        except (Dropped, ValueError):
            pass

    threads = [threading.Thread(target=work, args=(k,)) for k in range(120)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(30)
    assert max(most) <= 2 and turns.waiting == 0 and turns._busy == 0
