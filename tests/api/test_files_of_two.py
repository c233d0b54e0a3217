"""Content that one transaction stores while another takes its last name away is not lost, and nothing is kept that nobody names."""

import random
import threading
import time

import pytest
from django.db import connection, transaction

from eddyfall.workbench import files
from eddyfall.workbench.errors import NotThere
from eddyfall.workbench.models import Build, File, Project

pytestmark = pytest.mark.django_db(transaction=True)
ROUNDS = 200


@pytest.fixture
def build(db):
    project = Project.objects.create(name="Weirgate")
    return Build.objects.create(project=project, number=1, name="a.glb", setup={}, has_own_setup=False, facts={})


def in_threads(*works):
    """Run functions at the same moment, each with a connection of its own; the first failure is raised."""
    together, failed = threading.Barrier(len(works)), []

    def run(work):
        try:
            together.wait()
            work()
        except Exception as error:
            failed.append(error)
        finally:
            connection.close()

    threads = [threading.Thread(target=run, args=(w,)) for w in works]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    if failed:
        raise failed[0]


def test_an_upload_and_a_deletion_of_the_same_content_200_times(build):
    dice, lost, kept_for_nobody = random.Random(1), 0, 0
    for number in range(ROUNDS):
        data = f"content {number}".encode()
        with transaction.atomic():
            old = files.add(build, "evidence", "old", data)
        wait_a, wait_b = dice.random() * 0.004, dice.random() * 0.004

        def store(data=data, wait=wait_a):
            with transaction.atomic():
                files.add(build, "evidence", "new", data)
                time.sleep(wait)  # its file is renamed, its row is not committed

        def delete(old=old, wait=wait_b):
            time.sleep(wait)
            with transaction.atomic():
                files.unlink_unnamed([old.sha256])
                old.delete()

        in_threads(store, delete)
        lost += not files.path_of(old.sha256).exists()
        File.objects.all().delete()
        files.unlink_unnamed([old.sha256])
        kept_for_nobody += files.path_of(old.sha256).exists()
    assert (lost, kept_for_nobody) == (0, 0)


def test_many_who_store_the_same_pictures_in_other_orders_do_not_block_each_other(build):
    pictures = [f"picture {k}".encode() for k in range(12)]

    def store(seed):
        mine = pictures[:]
        random.Random(seed).shuffle(mine)
        for _ in range(5):
            with transaction.atomic():
                for data in mine:
                    files.add(build, "evidence", "p.png", data)

    in_threads(*(lambda s=s: store(s) for s in range(6)))
    assert File.objects.count() == 6 * 5 * 12 and len(set(File.objects.values_list("sha256", flat=True))) == 12


def test_what_is_being_stored_is_left_to_the_sweeper_and_the_sweeper_leaves_what_is_young(build, own_media):
    with transaction.atomic():
        sha, _ = files.put(b"nobody names this")
    assert files.remove_leftovers() == 0 and files.path_of(sha).exists()
    holds, done = threading.Event(), threading.Event()

    def hold():
        with transaction.atomic():
            files.put(b"nobody names this")
            holds.set()
            done.wait(20)

    thread = threading.Thread(target=lambda: (hold(), connection.close()))
    thread.start()
    holds.wait(20)
    later = time.time() + 25 * 3600
    assert files.remove_leftovers(now=later) == 0, "someone holds it"
    done.set()
    thread.join()
    assert files.remove_leftovers(now=later) == 1 and not files.path_of(sha).exists()


def test_content_is_only_stored_where_a_transaction_will_name_it(build):
    with pytest.raises(RuntimeError):
        files.put(b"x")
    assert not list(files.path_of("00").parent.parent.rglob("*"))


def test_a_file_that_went_meanwhile_is_not_there(build):
    with transaction.atomic():
        row = files.add(build, "evidence", "x", b"x")
    files.path_of(row.sha256).unlink()
    with pytest.raises(NotThere):
        files.open_file(row.sha256, "the picture")
