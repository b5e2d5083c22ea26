"""The contests over subjects of one shape: who wins and who loses, rule against rule, where."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from itertools import chain

from portero.core.insight.effects.bouts import Bout
from portero.core.insight.effects.kernel import RUNGS, Entrant, FleetContest, Kernel, Playing, settled, who_won
from portero.core.insight.effects.merged_sites import MergedSites
from portero.core.insight.effects.occasions import Occasions
from portero.core.insight.effects.sorts import Sides
from portero.core.insight.findings.meetings import About, InForce, Meeting, ShapeOutcome
from portero.core.nouns.action import STOPPING, Action
from portero.core.nouns.patterns import Pattern
from portero.core.nouns.verdict import Rung
from portero.core.resolving.deciding import lifting_of
from portero.core.resolving.ladder import Contender, InPlay, Standing, lost_on, without


class Ring:
    """Holds the contests over subjects of one shape."""

    def __init__(self, kernel: Kernel, bout: Bout, tells_others: bool) -> None:
        """`tells_others`: also of contests beside the indicators'."""
        self._kernel, self._bout, self._tells_others = kernel, bout, tells_others
        self._entrants: Mapping[Contender, Entrant] = bout.entrants
        self._named: dict[Contender, InForce] = {}
        self._lost: dict[tuple[Contender, Contender], int] = defaultdict(int)
        """Where who lost to whom on the ladder: the winner, the loser."""
        self._outcome = ShapeOutcome()

    def hold(self, where: int) -> ShapeOutcome:
        """All of them, on every occasion that counts, on some sorts of devices, for which the bout is."""
        bout, sides = self._bout, self._kernel.sorts.within(where)
        # which occasions they are is not told, so those of all sides are looked at together
        occasions = self._kernel.occasions(bout.contests, sides)
        indicators = self._settle(bout.indicators, occasions, sides)
        others = [self._settle(one, occasions, sides, self._tells_others) for one in bout.others]
        self._soften(indicators, others)
        if bout.sites:
            self._disagree(indicators, self._list_sites(bout.sites, occasions, sides))
        for (winner, loser), where in self._lost.items():
            self._meet(winner, loser, lost_on(loser, winner, RUNGS), where)
        return self._outcome

    def _settle(self, contest: FleetContest, occasions: Occasions, sides: Sides, tells: bool = True) -> list[Standing]:
        playing = self._kernel.playing(contest, occasions, sides)
        standing = settled(playing, occasions)
        if tells:
            # where a mandatory rule stands it is moot who won among the ordinary ones
            winners = who_won(standing)
            won = self._note(playing, winners)
            self._beaten(playing, winners, won)
        return standing

    def _note(self, playing: Iterable[Playing], winners: Iterable[InPlay]) -> set[tuple[str, int]]:
        """Note who counted, and who won; these by assignment and slot."""
        won: set[tuple[str, int]] = set()
        for winner in winners:
            key = self._key(winner.contender)
            won.add(key)
            self._outcome.won[key] |= winner.where
        for one in playing:
            if one.entrant.contender.action != Action.LOG:
                self._outcome.in_play[self._key(one.entrant.contender)] |= one.where
        return won

    def _key(self, contender: Contender) -> tuple[str, int]:
        entrant = self._entrants[contender]
        return entrant.assigned.header.key, entrant.slot

    def _beaten(self, playing: Iterable[Playing], winners: Sequence[InPlay], won: Collection[tuple[str, int]]) -> None:
        opposing = _Opposing(winners, self._entrants)
        for entrant, when, where in playing:
            loser = entrant.contender
            if loser.action == Action.LOG:
                continue
            for winner, then, there in winners if self._key(loser) not in won else opposing.of(entrant):
                # occasions are many more than sorts, where many people are named
                if (both := where & there) and when & then and winner is not loser:
                    self._lost[winner, loser] |= both

    def _meet(self, winner: Contender, loser: Contender, rung: Rung, where: int) -> None:
        self._tell(self._outcome.met, winner, loser, rung, where)

    def _tell(self, about: About, winner: Contender, loser: Contender, rung: Rung, where: int) -> None:
        meeting = Meeting(self._in_force(winner), self._in_force(loser), rung)
        about[meeting, self._entrants[winner].slot, self._entrants[loser].slot] |= where

    def _in_force(self, contender: Contender) -> InForce:
        known = self._named.get(contender)
        if known is None:
            entrant = self._entrants[contender]
            header, target = entrant.assigned.header, entrant.target.name
            action = Action(contender.action)
            known = InForce(header.key, header.ruleset, target, action, header.mandatory, entrant.closes)
            self._named[contender] = known
        return known

    def _soften(self, indicators: Iterable[Standing], contests: Sequence[Iterable[Standing]]) -> None:
        for indicator, when, where in indicators:
            lifting = lifting_of(indicator)
            if lifting is None or lifting.action != Action.WARN:
                continue
            for lifted, then, there in chain.from_iterable(contests):
                winner = lifted.winner
                if winner is None or winner.action != Action.BLOCK or winner.mandatory:
                    continue
                if when & then and (both := where & there):
                    self._tell(self._outcome.softened, lifting, winner, Rung.LIFTED, both)

    # --- site lists ---

    def _list_sites(
        self, sites: Sequence[tuple[Pattern, FleetContest]], occasions: Occasions, sides: Sides
    ) -> list[InPlay]:
        """Hold the contests of site patterns; which count in browsers, when and where."""
        playing = [self._kernel.playing(contest, occasions, sides) for _, contest in sites]
        won = [who_won(settled(some, occasions)) for some in playing]
        patterns = [pattern for pattern, _ in sites]
        merged = MergedSites(list(zip(patterns, won, strict=True)))
        self._note(chain.from_iterable(playing), merged.counting)
        for some, winners, left_out in zip(playing, won, merged.left_out, strict=True):
            for entrant, when, where in some:
                if entrant.contender.action != Action.LOG:
                    self._list_one(InPlay(entrant.contender, when, where), winners, left_out, merged.counting)
        return merged.counting

    def _list_one(
        self, one: InPlay, winners: Iterable[InPlay], left_out: Iterable[InPlay], counting: Iterable[InPlay]
    ) -> None:
        """To whom a rule loses: one of the same pattern, a mandatory one around it, or as browsers weigh patterns."""
        loser, pieces = one.contender, [(one.when, one.where)]
        pieces = self._loses(loser, pieces, winners, lambda winner: lost_on(loser, winner, RUNGS))
        pieces = self._loses(loser, pieces, left_out, lambda _winner: Rung.MANDATORY)
        self._loses(loser, pieces, counting, lambda _winner: Rung.BROWSER)

    def _loses(
        self,
        loser: Contender,
        pieces: list[tuple[int, int]],
        winners: Iterable[InPlay],
        rung: Callable[[Contender], Rung],
    ) -> list[tuple[int, int]]:
        """Note to whom of these a rule loses; when and where it does not."""
        others = [one for one in winners if one.contender is not loser]
        for winner, then, there in others:
            for when, where in pieces:
                if when & then and (both := where & there):
                    self._meet(winner, loser, rung(winner), both)
        return without(pieces, ((one.when, one.where) for one in others))

    def _disagree(self, indicators: Iterable[Standing], counting: Iterable[InPlay]) -> None:
        for indicator, when, where in indicators:
            allowing = indicator.winner
            if allowing is None or allowing.action != Action.ALLOW:
                continue
            for listing, then, there in counting:
                if listing.action == Action.BLOCK and when & then and (both := where & there):
                    self._tell(self._outcome.disagreeing, listing, allowing, Rung.STRICTEST, both)


class _Opposing:
    """The winners of a contest that may make a finding with a loser that wins elsewhere."""

    def __init__(self, winners: Iterable[InPlay], entrants: Mapping[Contender, Entrant]) -> None:
        self._entrants = entrants
        self._alike: dict[tuple[int, int, str], list[InPlay]] = defaultdict(list)
        self._opening: list[InPlay] = []
        for one in winners:
            winner = one.contender
            if not winner.mandatory:
                for action in (Action.ALLOW, Action.WARN, Action.BLOCK):
                    if action != winner.action:
                        self._alike[winner.narrowness, entrants[winner].rung, action].append(one)
                if winner.action == Action.ALLOW:
                    self._opening.append(one)

    def of(self, loser: Entrant) -> Iterable[InPlay]:
        """Those as narrow that say something else; and those that open what a rule on everything stops."""
        contender = loser.contender
        if contender.mandatory:
            return
        yield from self._alike.get((contender.narrowness, loser.rung, contender.action), ())
        if loser.closes and contender.action in STOPPING:
            yield from (one for one in self._opening if one.contender.narrowness != contender.narrowness)
