/* Mailboxes: words from one task or interrupt to another task. */
#include "board/board.h"
#include "kernel/kernel.h"

void mailbox_post(struct mailbox *mailbox, uint32_t word)
{
    uint32_t masked = interrupts_mask();
    if (mailbox->used == mailbox->size) {
        mailbox->head = (mailbox->head + 1) % mailbox->size;
        mailbox->used--;
        mailbox->lost++;
    }
    mailbox->slots[(mailbox->head + mailbox->used) % mailbox->size] = word;
    mailbox->used++;
    interrupts_restore(masked);
    semaphore_give(&mailbox->filled);
}

uint32_t mailbox_fetch(struct mailbox *mailbox)
{
    for (;;) {
        uint32_t masked = interrupts_mask();
        if (mailbox->used > 0) {
            uint32_t word = mailbox->slots[mailbox->head];
            mailbox->head = (mailbox->head + 1) % mailbox->size;
            mailbox->used--;
            interrupts_restore(masked);
            return word;
        }
        interrupts_restore(masked);
        semaphore_take(&mailbox->filled);
    }
}
