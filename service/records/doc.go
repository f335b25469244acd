// Package records keeps what the service must not forget in PostgreSQL:
// people, machines, bags, cases and climbs.
//
//	store, err := records.Open(ctx, dsn)
//	number, again, err := store.Accept(ctx, bag, whole, enqueue)
//
// Every change of a case or climb is announced to all processes of the
// service by a trigger: see Listen.
package records
