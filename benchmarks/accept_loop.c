/* Accepts whatever the kernel's packet queue hands over: `accept_loop NUMBER…`, until SIGTERM.
 *
 * The least that any program costs which takes packets from the queue, beside which the gate's figures stand. One
 * message is read for each packet, and one verdict sent for all that came in a turn. Prints the packets and the seconds
 * of a processor as JSON. Source: linux/netfilter/nfnetlink_queue.h.
 */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <errno.h>
#include <linux/netfilter.h>
#include <linux/netfilter/nfnetlink.h>
#include <linux/netfilter/nfnetlink_queue.h>
#include <linux/netlink.h>
#include <poll.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <unistd.h>

#define COPIED 128
#define MOST_QUEUES 16
#define BATCH 64
#define MESSAGE 512

static volatile sig_atomic_t over;

static void end(int number)
{
	(void)number;
	over = 1;
}

static size_t attribute(char *to, uint16_t kind, const void *value, uint16_t size)
{
	struct nlattr head = {.nla_len = (uint16_t)(NLA_HDRLEN + size), .nla_type = kind};

	memcpy(to, &head, sizeof head);
	memcpy(to + NLA_HDRLEN, value, size);
	return NLA_ALIGN(head.nla_len);
}

static int tell(int line, uint16_t kind, uint16_t queue, const char *attributes, size_t size)
{
	char message[256] = {0};
	struct nlmsghdr *head = (struct nlmsghdr *)message;
	struct nfgenmsg *body = NLMSG_DATA(head);

	head->nlmsg_len = (uint32_t)(NLMSG_LENGTH(sizeof *body) + size);
	head->nlmsg_type = (uint16_t)(NFNL_SUBSYS_QUEUE << 8 | kind);
	head->nlmsg_flags = NLM_F_REQUEST;
	body->nfgen_family = AF_UNSPEC;
	body->res_id = htons(queue);
	memcpy((char *)body + NLMSG_ALIGN(sizeof *body), attributes, size);
	return send(line, message, head->nlmsg_len, 0) < 0 ? -1 : 0;
}

static int queue(uint16_t number)
{
	struct nfqnl_msg_config_cmd bind_it = {.command = NFQNL_CFG_CMD_BIND, .pf = htons(AF_UNSPEC)};
	struct nfqnl_msg_config_params copy = {.copy_range = htonl(COPIED), .copy_mode = NFQNL_COPY_PACKET};
	uint32_t most = htonl(65535), flags = htonl(NFQA_CFG_F_FAIL_OPEN);
	int line = socket(AF_NETLINK, SOCK_RAW, NETLINK_NETFILTER), buffer = 16 << 20, one = 1;
	char attributes[128];
	size_t size;

	if (line < 0)
		return -1;
	setsockopt(line, SOL_SOCKET, SO_RCVBUFFORCE, &buffer, sizeof buffer);
	setsockopt(line, SOL_NETLINK, NETLINK_NO_ENOBUFS, &one, sizeof one);
	size = attribute(attributes, NFQA_CFG_CMD, &bind_it, sizeof bind_it);
	if (tell(line, NFQNL_MSG_CONFIG, number, attributes, size))
		return -1;
	size = attribute(attributes, NFQA_CFG_PARAMS, &copy, sizeof copy);
	size += attribute(attributes + size, NFQA_CFG_QUEUE_MAXLEN, &most, sizeof most);
	size += attribute(attributes + size, NFQA_CFG_FLAGS, &flags, sizeof flags);
	size += attribute(attributes + size, NFQA_CFG_MASK, &flags, sizeof flags);
	return tell(line, NFQNL_MSG_CONFIG, number, attributes, size) ? -1 : line;
}

/* The id of the packet in a message, in network byte order; 0 if it holds none. */
static uint32_t packet_of(const char *message, size_t size)
{
	const struct nlmsghdr *head = (const struct nlmsghdr *)message;
	size_t at = NLMSG_LENGTH(sizeof(struct nfgenmsg));

	if (size < at || head->nlmsg_type != (NFNL_SUBSYS_QUEUE << 8 | NFQNL_MSG_PACKET))
		return 0;
	while (at + NLA_HDRLEN <= size) {
		const struct nlattr *one = (const struct nlattr *)(message + at);

		if (one->nla_len < NLA_HDRLEN || at + one->nla_len > size)
			return 0;
		if ((one->nla_type & NLA_TYPE_MASK) == NFQA_PACKET_HDR) {
			uint32_t id;

			memcpy(&id, message + at + NLA_HDRLEN, sizeof id);
			return id;
		}
		at += NLA_ALIGN(one->nla_len);
	}
	return 0;
}

int main(int count, char **words)
{
	static char room[BATCH][MESSAGE];
	struct mmsghdr messages[BATCH] = {0};
	struct iovec parts[BATCH];
	struct pollfd lines[MOST_QUEUES];
	uint16_t numbers[MOST_QUEUES];
	unsigned long packets = 0;
	int queues = count - 1;
	struct rusage used;

	if (queues < 1 || queues > MOST_QUEUES)
		return 2;
	signal(SIGTERM, end);
	for (int n = 0; n < queues; n++) {
		numbers[n] = (uint16_t)atoi(words[n + 1]);
		lines[n] = (struct pollfd){.fd = queue(numbers[n]), .events = POLLIN};
		if (lines[n].fd < 0) {
			perror("queue");
			return 1;
		}
	}
	for (int n = 0; n < BATCH; n++) {
		parts[n] = (struct iovec){room[n], MESSAGE};
		messages[n].msg_hdr = (struct msghdr){.msg_iov = &parts[n], .msg_iovlen = 1};
	}
	puts("ready");
	fflush(stdout);
	while (!over) {
		if (poll(lines, (nfds_t)queues, 200) <= 0)
			continue;
		for (int n = 0; n < queues; n++) {
			struct nfqnl_msg_verdict_hdr verdict = {.verdict = htonl(NF_ACCEPT)};
			char attributes[64];
			int came;

			if (!(lines[n].revents & POLLIN))
				continue;
			came = recvmmsg(lines[n].fd, messages, BATCH, MSG_DONTWAIT, NULL);
			for (int m = 0; m < came; m++) {
				uint32_t id = packet_of(room[m], messages[m].msg_len);

				if (id) {
					verdict.id = id;
					packets++;
				}
			}
			if (verdict.id)
				tell(lines[n].fd, NFQNL_MSG_VERDICT_BATCH, numbers[n], attributes,
				     attribute(attributes, NFQA_VERDICT_HDR, &verdict, sizeof verdict));
		}
	}
	getrusage(RUSAGE_SELF, &used);
	printf("{\"packets\": %lu, \"seconds\": %.3f}\n", packets,
	       (double)(used.ru_utime.tv_sec + used.ru_stime.tv_sec) +
		       (double)(used.ru_utime.tv_usec + used.ru_stime.tv_usec) / 1e6);
	return 0;
}
