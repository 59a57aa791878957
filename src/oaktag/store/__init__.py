"""What must outlive a run, in one database: so far what nodes told of sessions."""

from oaktag.store.database import NoStoreYet
from oaktag.store.store import Held, Store, Taken

__all__ = ["Held", "NoStoreYet", "Store", "Taken"]
