"""Parts of whole systems over minutes and hours: storage, machines and converters by their losses, a car on
its road."""
