"""Run a function for many things, several at a time: for waiting, not for computing."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable
from typing import Generic, TypeVar

T = TypeVar("T")
R = TypeVar("R")


class _Asked(Generic[T, R]):
    """The remaining things, and the results or exceptions so far."""

    def __init__(self, question: Callable[[T], R], things: list[T]) -> None:
        self.question = question
        self.left = list(enumerate(things))[::-1]
        self.answers: dict[int, R] = {}
        self.raised: list[BaseException] = []

    def work(self) -> None:
        while self.left and not self.raised:
            try:
                n, thing = self.left.pop()
            except IndexError:
                return  # another thread has taken the last one
            try:
                self.answers[n] = self.question(thing)
            except BaseException as e:
                self.raised.append(e)


def side_by_side(question: Callable[[T], R], things: Iterable[T], at_once: int) -> list[R]:
    """The results in the order of `things`; at most `at_once` run at the same time. Raises the first exception."""
    asked = _Asked(question, list(things))
    threads = [threading.Thread(target=asked.work, daemon=True) for _ in range(min(at_once, len(asked.left)) - 1)]
    for thread in threads:
        thread.start()
    asked.work()
    for thread in threads:
        thread.join()
    if asked.raised:
        raise asked.raised[0]
    return [asked.answers[n] for n in sorted(asked.answers)]
