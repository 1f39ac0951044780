"""What something that is told on a way may become."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy.orm import Session

from myriant.core.states import DELIVERY_MOVES, DeliveryState, check_move
from myriant.store.tables import Delivery
from myriant.store.ways import waiting_of_run


def arrive(delivery: Delivery, at: datetime) -> None:
    _become(delivery, DeliveryState.SENT)
    delivery.sent_at = at


def keep(delivery: Delivery) -> None:
    """Everybody whom it is for hears it later."""
    _become(delivery, DeliveryState.KEPT)


def put_aside(delivery: Delivery) -> None:
    """No further try makes sense."""
    _become(delivery, DeliveryState.ASIDE)


def try_again(delivery: Delivery) -> None:
    """A person wants another try, at once."""
    _become(delivery, DeliveryState.WAITING)
    delivery.tries, delivery.next_at = 0, datetime.now(UTC)


def pass_over(session: Session, way_id: int, run: int, but: int) -> None:
    """Of a run's outcomes that wait on a way only the newest is still worth telling."""
    for delivery in waiting_of_run(session, way_id, run, but):
        put_aside(delivery)
        delivery.answer = "a newer outcome of the run took its place"


def _become(delivery: Delivery, then: DeliveryState) -> None:
    check_move(f"delivery {delivery.id}", DELIVERY_MOVES, DeliveryState(delivery.state), then)
    delivery.state = then
