"""How the fleet's layers stand: one device, or all in a unit or group."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from portero.core import sentences
from portero.core.insight.readiness import Obstacle, readiness
from portero.core.matching.members import facts_from
from portero.core.nouns.device import Device
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import LAYERS, LayerMode, LayerName
from portero.core.nouns.membership import Condition, ItemTest, MembershipRule, Op
from portero.core.nouns.readiness import (
    ORDER,
    BlockerCode,
    BlockerCount,
    FleetReadiness,
    LayerCount,
    Readiness,
    UnitReadiness,
)
from portero.store import readiness as counting
from portero.store.database import Store
from portero.store.device_lists import MACHINE_BLOCKERS, DeviceFilter
from portero.store.readiness import ClassCount


def readiness_of(estate: Estate, device: Device) -> Readiness:
    """One device's layers and all that stands in their way."""
    machine = [Obstacle(code) for code in MACHINE_BLOCKERS if code.value in device.blockers]
    facts = facts_from(device.facts)
    return readiness(estate, facts, device.groups, machine, device.joined_at is not None, (device.id, device.hostname))


def fleet_readiness(store: Store, estate: Estate, now: float, unit: str | None, group: str | None) -> FleetReadiness:
    """How many devices enforce each layer, and where the others are lost."""
    filter = DeviceFilter(unit=unit, group=group)
    with store.reading() as connection:
        classes, unheard = counting.class_counts(connection, filter, now)
        obstacles = counting.obstacle_counts(connection, filter, now, unheard)
    layers = tuple(_layer(layer, estate, classes, obstacles.first.get(layer, {})) for layer in LAYERS)
    machine = {code: sum(count.by_code[code] for count in classes) for code in MACHINE_BLOCKERS}
    blockers = [_count(code, None, number) for code, number in machine.items() if number]
    blockers += [_count(code, _layer_name(layer), number) for (code, layer), number in obstacles.every.items()]
    return FleetReadiness(
        unit=unit,
        group=group,
        devices=sum(count.all for count in classes),
        uncovered=machine[BlockerCode.NEVER_JOINED],
        sentence=" ".join(sentences.readiness_sentence(layer) for layer in layers),
        layers=layers,
        blockers=tuple(sorted(blockers, key=lambda blocker: (-blocker.devices, ORDER[blocker.code]))),
    )


def _layer_name(layer: str) -> LayerName | None:
    return next((name for name in LAYERS if name == layer), None)


def _layer(
    layer: LayerName, estate: Estate, classes: Sequence[ClassCount], first: dict[BlockerCode, int]
) -> LayerCount:
    meant = [class_count for class_count in classes if estate.mode_of(layer, class_count.groups) is LayerMode.ENFORCING]
    unheard = {
        BlockerCode.NEVER_JOINED: sum(class_count.by_code[BlockerCode.NEVER_JOINED] for class_count in meant),
        BlockerCode.CREDENTIAL_REVOKED: sum(
            class_count.by_code[BlockerCode.CREDENTIAL_REVOKED] for class_count in meant
        ),
        BlockerCode.SILENT: sum(class_count.silent for class_count in meant),
    }
    lost: dict[BlockerCode, int] = {code: number for code, number in [*unheard.items(), *first.items()] if number}
    return LayerCount(
        layer=layer,
        meant=sum(class_count.all for class_count in meant),
        enforcing=sum(class_count.heard for class_count in meant) - sum(first.values()),
        not_meant=sum(class_count.all for class_count in classes) - sum(class_count.all for class_count in meant),
        lost=tuple(
            _count(code, layer if code in first else None, number)
            for code, number in sorted(lost.items(), key=lambda item: ORDER[item[0]])
        ),
    )


def _count(code: BlockerCode, layer: LayerName | None, devices: int) -> BlockerCount:
    words = sentences.blocker(code, layer)
    return BlockerCount(code=code, layer=layer, devices=devices, **words._asdict(), group_rule=rule_for(code, layer))


def rule_for(code: BlockerCode, layer: LayerName | None) -> MembershipRule | None:
    """A membership rule that catches the devices that something stands in the way of, where conditions can say it."""
    conditions: dict[BlockerCode, Condition] = {
        BlockerCode.NEVER_JOINED: Condition(field="lifecycle", op=Op.IS, value="invited"),
        BlockerCode.SILENT: Condition(field="lifecycle", op=Op.IS, value="silent"),
        BlockerCode.LAYER_OFF: Condition(field=f"layers.{layer or 'filter'}", op=Op.IS, value="off"),
        BlockerCode.LAYER_OBSERVING: Condition(field=f"layers.{layer or 'filter'}", op=Op.IS, value="observing"),
        BlockerCode.BROWSER_UNMANAGED: Condition(field="browsers", op=Op.HAS, value=ItemTest(managed=False)),
    }
    if code in conditions:
        return MembershipRule(all=(conditions[code],))
    missing = {BlockerCode.ZONE_MISSING: "zone", BlockerCode.LAYER_NOT_REPORTED: f"layers.{layer or 'filter'}"}.get(
        code
    )
    if missing is None:
        return None
    # a fact that is not reported makes its condition false, so that `none` over it holds
    joined = Condition(field="lifecycle", op=Op.ONE_OF, value=("enrolled", "silent"))
    return MembershipRule(all=(joined,), none=(Condition(field=missing, op=Op.LIKE, value="*"),))


def _forks(units: list[str], below: str | None) -> list[str]:
    """The units right below another one; a single one on the way is passed through, as it says nothing new."""
    depth, prefix = (below.count("/") + 1, f"{below}/") if below else (0, "")
    inside = [unit for unit in units if unit.startswith(prefix)]
    names = list(dict.fromkeys("/".join(unit.split("/")[: depth + 1]) for unit in inside))
    if len(names) == 1 and names[0] not in inside:
        return _forks(units, names[0])
    return names


def unit_readiness(store: Store, estate: Estate, now: float, below: str | None) -> list[UnitReadiness]:
    """How each unit below another one stands, where they first fork; of all where none is named."""
    with store.reading() as connection:
        counts = counting.unit_counts(connection, now)
    names = _forks(sorted({count.unit for count in counts.classes}), below)
    own: dict[str, str] = {}
    for unit in {count.unit for count in counts.classes}:
        inside = next((name for name in names if unit == name or unit.startswith(f"{name}/")), None)
        if inside is not None:
            own[unit] = inside
    devices, uncovered, enforcing = Counter[str](), Counter[str](), Counter[tuple[str, str]]()
    for count in counts.classes:
        if count.unit in own:
            name = own[count.unit]
            devices[name] += count.all
            uncovered[name] += count.never_joined
            for layer in LAYERS:
                meant = estate.mode_of(layer, count.groups) is LayerMode.ENFORCING
                enforcing[name, layer] += count.heard if meant else 0
    for (unit, kept_from), number in counts.kept.items():
        if unit in own:
            enforcing[own[unit], kept_from] -= number
    return [
        UnitReadiness(
            unit=name,
            devices=devices[name],
            uncovered=uncovered[name],
            enforcing={layer: enforcing[name, layer] for layer in LAYERS},
        )
        for name in names
    ]
