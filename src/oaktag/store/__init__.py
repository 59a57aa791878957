"""What must outlive a run, in one database: so far what nodes told of sessions."""

from oaktag.store.database import is_there, url_of
from oaktag.store.store import Held, Store, Taken

__all__ = ["Held", "Store", "Taken", "is_there", "url_of"]
